import {
  type RehearsalView,
  duration,
  workedText,
  type ForetoldView,
  type Rollout,
  type RolloutChanges,
  type RolloutSummary,
  type RunView,
  type TargetPreview,
  type Transfer,
  type WayBackAhead,
} from '@barrow/core';

export { octets } from '@barrow/core';

const two = (n: number): string => String(n).padStart(2, '0');

/** A moment in milliseconds, by the clock of who reads it, e.g. `22:00:05`. */
export const clockAt = (moment: number): string => {
  const at = new Date(moment);
  return [at.getHours(), at.getMinutes(), at.getSeconds()].map(two).join(':');
};

/** A moment (RFC 3339) in the time zone of who reads it; with its date, of the same zone, when that is not today's. */
export function localTime(moment: string | null, now = new Date()): string {
  if (moment === null) return '–';
  const at = new Date(moment);
  const time = clockAt(at.getTime());
  if (at.toDateString() === now.toDateString()) return time;
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${time}`;
}

/** What is counted, in words: an outcome is called as it is everywhere else. */
export const totalWord = (of: keyof RolloutSummary['totals']): string => (of === 'under-way' ? 'under way' : of);

/** How a rollout stands in numbers, e.g. `12 of 14 verified, 1 failed, 1 under way`. */
export function totalsOf(r: Pick<RolloutSummary, 'totals' | 'devices'>): string {
  const n = (k: keyof RolloutSummary['totals']): number => r.totals[k] ?? 0;
  const rest = (['failed', 'not-begun', 'skipped', 'withdrawn', 'recovered', 'under-way', 'waiting'] as const)
    .filter((k) => n(k) > 0)
    .map((k) => `${n(k)} ${totalWord(k)}`);
  return [`${n('verified')} of ${r.devices} verified`, ...rest].join(', ');
}

/** The phase of a wave: `waiting`, `soaking`; once its devices ended, also how many are not verified: `ended, 1 failed`. */
export function waveText(
  { phase, totals, soak, soaksUntil }: Pick<Rollout['waves'][number], 'phase' | 'totals' | 'soak' | 'soaksUntil'>,
  rollout: Rollout['phase'],
): string {
  if (phase === 'waiting' && rollout === 'ended') return 'not opened';
  if (phase === 'waiting' || phase === 'open') return phase;
  const missed = (['failed', 'recovered', 'skipped', 'withdrawn', 'not-begun'] as const)
    .filter((k) => (totals[k] ?? 0) > 0)
    .map((k) => `${totals[k]} ${totalWord(k)}`);
  const ended = phase === 'soaking' ? rollout === 'ended' || soaksUntil === null : missed.length > 0;
  const word = ended ? 'ended' : phase === 'soaking' && soak.judged ? 'soak ended' : phase;
  return [word, ...missed].join(', ');
}

/** What is to be known of each device before, beside what the hazards of its plan say already. */
export function noticesBeside({ hazards }: Pick<Rollout, 'hazards'>): (run: Pick<RunView, 'name' | 'notices'>) => string[] {
  const told = new Map<string, string[]>();
  for (const { words, devices } of hazards.flatMap((h) => h.groups))
    for (const device of devices) told.set(device, [...(told.get(device) ?? []), words]);
  return ({ name, notices }) => {
    const said = told.get(name) ?? [];
    return notices.filter((n) => !said.some((words) => words.includes(n) || n.includes(words)));
  };
}

/** Puts together what is said of several: the words, and everybody of whom they are said. */
export function groupBy<T>(
  items: readonly T[],
  words: (item: T) => readonly string[],
  name: (item: T) => string,
): { words: string; names: string[] }[] {
  const found = new Map<string, string[]>();
  for (const item of items)
    for (const word of words(item)) {
      const names = found.get(word);
      if (names) names.push(name(item));
      else found.set(word, [name(item)]);
    }
  return [...found].map(([w, names]) => ({ words: w, names }));
}

/** Some names, and how many more: `a, b and 4 more`. */
export const someOf = (names: readonly string[], most = 4): string =>
  names.length <= most + 1 ? names.join(', ') : `${names.slice(0, most).join(', ')} and ${names.length - most} more`;

/** Which way a transfer goes. */
export const wayOf = ({ protocol }: Pick<Transfer, 'protocol'>): string =>
  ({ tftp: 'fetched by TFTP', http: 'fetched by HTTP', push: 'sent by Barrow', 'tftp-write': 'sent by the device, by TFTP' })[protocol];

/** What is known of what the device holds. */
export const heldText = ({ verified, comparedBy }: Pick<Transfer, 'verified' | 'comparedBy'>): string => {
  if (verified !== null) return verified ? 'its digest is ours' : 'its digest is another';
  if (comparedBy === 'size') return 'its size is ours; the device cannot tell a digest';
  return comparedBy === 'nothing' ? 'the device cannot tell what it holds' : 'not looked at';
};

/** Whether no request ever came: one over TFTP has agreed on a size of its blocks, if only on the usual one. */
export const neverCame = (t: Pick<Transfer, 'protocol' | 'blockSize' | 'state'>): boolean =>
  t.protocol.startsWith('tftp') && t.blockSize === null && t.state !== 'refused';

/** What would follow from a target, in sentences; the first tells of all of them. */
export function previewText(p: TargetPreview): string[] {
  const parts = (
    [
      [p.there, (n: number) => `${n === 1 ? 'runs' : 'run'} it already`],
      [p.oneImage, (n: number) => `${n === 1 ? 'takes' : 'take'} one image`],
      [p.moreImages, (n: number) => `${n === 1 ? 'takes' : 'take'} more than one`],
      [p.newer, (n: number) => `${n === 1 ? 'runs' : 'run'} something newer`],
      [p.notReached.reduce((sum, r) => sum + r.devices, 0), () => 'cannot get there'],
      [p.pinned, (n: number) => `${n === 1 ? 'is' : 'are'} pinned`],
    ] as const
  )
    .filter(([n]) => n > 0)
    .map(([n, word]) => `${n} ${word(n)}`);
  const all = `${p.version} for ${p.devices === 1 ? '1 device' : `${p.devices} devices`} (${p.scope})${parts.length > 0 ? `: ${parts.join(', ')}` : ''}.`;
  return [
    all,
    ...(p.devices === 0 ? ['Nobody is meant by it: for each device a narrower rule counts, or there is none.'] : []),
    ...p.notReached.map((r) => {
      const more = r.devices - Math.min(3, r.names.length);
      return `${r.names.slice(0, 3).join(', ')}${more > 0 ? ` and ${more} more` : ''}: ${r.why}.`;
    }),
    ...p.remarks.map((r) => `${r[0]!.toUpperCase()}${r.slice(1)}.`),
  ];
}

/** A rollout with what has changed in it since. */
export function withChanges(rollout: Rollout, { runs, ...changes }: RolloutChanges): Rollout {
  const changed = new Map(runs.map((r) => [r.id, r]));
  return { ...rollout, ...changes, runs: rollout.runs.map((r) => changed.get(r.id) ?? r) };
}

/** Whether nothing happens in a rollout any more without a person's word: it has ended, or is held and what had to go on has come to its end. */
export function isAtRest({ phase, heldBy, runs }: Pick<Rollout, 'phase' | 'heldBy' | 'runs'>): boolean {
  if (phase !== 'held') return phase === 'ended';
  // Who is broken is taken back also when Barrow holds the rollout, and waits when a person does.
  const goesOn = (r: RunView): boolean =>
    ['busy', 'armed', 'asking', 'lost'].includes(r.phase) ||
    (r.pastReturn && (r.phase === 'ready' || (r.phase === 'broken' && heldBy === 'Barrow')));
  return !runs.some(goesOn);
}

/** Of a rollout those that have ended otherwise than verified: what is left of it. */
export const restOf = ({ runs }: Pick<Rollout, 'runs'>): RunView[] => runs.filter((r) => r.outcome !== null && r.outcome !== 'verified');

/** Shorter than this, nobody needs to be told that it is later, in milliseconds. */
const onTime = 30_000;

/** When a rollout under way comes to its end, beside what its rehearsal said, in a sentence. */
export function foretoldText({ endsAt, plannedEndsAt, approvals, stuck, held }: ForetoldView, now = new Date()): string {
  if (stuck !== null) return `As it stands it does not come to its end: ${stuck}.`;
  const beside = besideText(endsAt, plannedEndsAt);
  const ifs = [
    ...(held ? ['if it goes on now'] : []),
    ...(approvals.length > 0 ? [`if ${approvals.map((name) => `the wave ${name}`).join(' and ')} is approved at once`] : []),
  ];
  return `It ends about ${localTime(endsAt, now)}${ifs.length > 0 ? `, ${ifs.join(' and ')}` : ''}: ${beside}.`;
}

/** How far an end is from the one that was rehearsed. */
export function besideText(endsAt: string, rehearsedEndsAt: string): string {
  const late = Date.parse(endsAt) - Date.parse(rehearsedEndsAt);
  return Math.abs(late) < onTime ? 'as rehearsed' : `${duration(Math.abs(late))} ${late > 0 ? 'later' : 'earlier'} than rehearsed`;
}

/** Where the durations of a plan come from; `devices`: how many there are. */
export function learnedText({ learned, devices }: Pick<Rollout, 'learned' | 'devices'>): string {
  if (learned === null) return 'Durations are those of the family files: none of these took anything here often enough yet.';
  const { least, most } = learned;
  const who = learned.devices === devices ? 'all devices' : `${learned.devices} of ${devices} devices`;
  const rest = learned.devices === devices ? '' : '; the others by their family file';
  return `Durations of ${who} are what their family and model took here before, as far as that is known (${least === most ? least : `${least} to ${most}`} times each step)${rest}.`;
}

/** How long what a device is at has taken until now, beside what it usually takes and, where that was seen here, what it took at most. */
export interface Pace {
  readonly text: string;
  /** It takes longer than usual. */
  readonly isLate: boolean;
  /** Slow is not stuck: it takes longer than it ever did here, or, where nothing was seen here, than twice the usual. */
  readonly isSlow: boolean;
}

/** null for who is not at a step of its legs, or waits for a person. */
export function paceOf(
  run: Pick<RunView, 'phase' | 'rung' | 'stepBegunAt' | 'stepIndex' | 'passage' | 'asks'>,
  passages: Rollout['passages'],
  now: number,
): Pace | null {
  const step = run.phase === 'busy' && run.rung === null && run.asks === null ? passages[run.passage]?.steps[run.stepIndex] : undefined;
  if (!step || run.stepBegunAt === null) return null;
  const ms = Math.max(0, now - Date.parse(run.stepBegunAt));
  const { usualMs, seen } = step;
  const isLate = ms > usualMs;
  const most = isLate && seen ? `, at most ${duration(seen.mostMs)} until now` : '';
  const isSlow = ms > (seen === null ? 2 * usualMs : seen.mostMs);
  const slow = isSlow ? (seen === null ? 'slow: ' : 'slower than ever here: ') : '';
  return { text: `${slow}${duration(Math.max(1000, ms))}, usually ${duration(usualMs)}${most}`, isLate, isSlow };
}

/** By what a device stands again, in a sentence. */
export function mendedText({ text, unsure }: RunView['mended'][number]): string {
  const said = `Then it was ${text}: ${workedText(unsure)}`;
  return said.endsWith('.') ? said : `${said}.`;
}

/** How a whole rollout could be rolled back after its end, in sentences: how long that takes, and which devices cannot. */
export function takenBackText({ devices, takesMs, stuck, leftOut }: WayBackAhead): string[] {
  const of = devices + leftOut.length;
  const who = leftOut.length > 0 ? `${devices} of ${of} devices` : devices === 1 ? 'the device' : `all ${devices} devices`;
  const first =
    devices === 0
      ? 'After the rollout, no device can be rolled back with `barrow rollout plan-back`. Recovery steps of a failed device: see the plan.'
      : `After the rollout, \`barrow rollout plan-back\` can roll back ${who}${stuck === null ? `, in about ${duration(takesMs)}` : `, but not to the end: ${stuck}`}.`;
  return [
    first,
    ...groupBy(
      leftOut,
      (l) => [l.reason],
      (l) => l.name,
    ).map((g) => `Not ${someOf(g.names)}: ${g.words}.`),
  ];
}

/** One stretch of what makes a rehearsal long. */
export interface ChainLine {
  /** From its begin on, in milliseconds. */
  readonly after: number;
  readonly takes: number;
  readonly what: string;
  /** Why it did not begin sooner; empty when it did at once. */
  readonly why: string;
}

/** What makes a rehearsal long, first to last, with the soaks and distances that lie in between. */
export function chainLines({ chain, beginsAt, endsAt }: Pick<RehearsalView, 'chain' | 'beginsAt' | 'endsAt'>): ChainLine[] {
  const begins = Date.parse(beginsAt);
  let reached = begins;
  const gap = (until: number): ChainLine[] =>
    until - reached < 1000
      ? []
      : [
          {
            after: reached - begins,
            takes: until - reached,
            what: reached === begins ? 'nothing yet' : 'soaks, or time that has to lie between',
            why: '',
          },
        ];
  const lines = chain.flatMap(({ names, parts, from, until, waited }): ChainLine[] => {
    const [at, then] = [Date.parse(from), Date.parse(until)];
    const one = names.length === 1 && parts.length === 1 ? `: ${parts[0]}` : '';
    const found = [...gap(at), { after: at - begins, takes: then - at, what: `${someOf(names, 3)}${one}`, why: waited ?? '' }];
    reached = then;
    return found;
  });
  return chain.length === 0 ? [] : [...lines, ...gap(Date.parse(endsAt))];
}

/** How much shorter it could be, and until when it may begin. */
export function boundText({ totalMs, leastMs, latest, stuck }: RehearsalView, now = new Date()): string[] {
  return [
    ...(stuck === null && totalMs > leastMs * 1.05
      ? [`Under its limits, without windows, it could not take less than ${duration(leastMs)}.`]
      : []),
    ...(latest ? [`To be over by ${localTime(latest.by, now)} it has to begin by ${localTime(latest.begin, now)}.`] : []),
  ];
}

/** When a rollout begins by itself, and by when it is to be done; null: nothing was said of that, or it has ended. */
export function beginsText({ begins, phase }: Pick<RolloutSummary, 'begins' | 'phase'>, now = new Date()): string | null {
  if (begins === null || phase === 'ended') return null;
  const { at, latest, doneBy, by, missed } = begins;
  const done = doneBy === null ? '' : `It is to be done by ${localTime(doneBy, now)}: nobody goes down who would not be back by then.`;
  if (at === null || phase !== 'planned') return done === '' ? null : done;
  if (missed !== null) return `It was to begin at ${localTime(at, now)}, and did not: ${missed.replace(/\.$/, '')}.`;
  return [`It begins at ${localTime(at, now)}, not after ${localTime(latest!, now)}, as ${by} said.`, done]
    .filter((t) => t !== '')
    .join(' ');
}

/** How a soak went, in a few words. */
export function soakWord(findings: readonly { readonly verdict: 'worse' | 'told' | 'unknown' }[], looks = Infinity): string {
  const worse = findings.filter((f) => f.verdict === 'worse').length;
  if (worse > 0) return `${worse} ${worse === 1 ? 'thing' : 'things'} got worse`;
  if (looks === 0) return 'Barrow cannot say whether anything got worse';
  if (findings.some((f) => f.verdict === 'unknown')) return 'nothing measured got worse; some devices could not be measured';
  return findings.length > 0 ? 'otherwise than before, and no harm' : 'nothing got worse';
}

/** A value that was measured in a soak, as people read it. */
export function soakValue(measure: string | null, value: number): string {
  if (measure === 'free memory') return `${(value / 1024).toFixed(1)} MB`;
  if (measure === 'load of the processor') return `${Math.round(value)} %`;
  if (measure === 'round trip') return `${Math.round(value)} ms`;
  return `${Math.round(value * 10) / 10}`;
}

/** What the values of one device came to: from the first to the last, or how often it happened. */
export function soakChange(measure: string | null, points: readonly (readonly [number, number])[]): string {
  const values = points.map(([, value]) => value);
  if (measure === 'ports that come and go' || measure === 'silence') return `${values.reduce((a, b) => a + b, 0)} in all`;
  return `${soakValue(measure, values[0]!)} → ${soakValue(measure, values.at(-1)!)}`;
}

/** A person's word to a rollout, or to one device of it. */
export type Word = 'hold' | 'continue' | 'stop' | 'retry' | 'skip' | 'take-over' | 'take-back' | 'release';

/** What the word does that a gate waits for. `wave`: its index; `now`: by the clock of who looks. */
export function approvalDoes(r: Pick<Rollout, 'runs' | 'waves'>, wave: number, now = Date.now()): string[] {
  const gate = r.waves[wave];
  if (!gate) return [`There is no wave ${wave + 1}.`];
  const name = `Wave ${wave + 1} (${gate.name})`;
  const next = r.waves[wave + 1];
  const ended = Object.entries(gate.totals).flatMap(([outcome, n]) => (n > 0 ? [`${n} ${outcome}`] : []));
  const stands = ended.length > 0 ? [`${name} has ${ended.join(', ')}.`] : [];
  if (gate.approvedBy !== null) return [...stands, `It has its word already, from ${gate.approvedBy}.`];
  if (next === undefined) return [...stands, 'It is the last one: nobody waits for its word.'];
  if (!gate.gate.approval) return [...stands, 'Its gate asks for no word.'];
  const theirs = r.runs.filter((x) => x.wave === next.index && x.outcome === null).map((x) => x.name);
  const opened = `wave ${wave + 2} (${next.name}) is opened: ${theirs.length === 1 ? '1 device' : `${theirs.length} devices`}${theirs.length > 0 ? ` (${someOf(theirs)})` : ''}`;
  const when =
    gate.phase === 'waiting' || gate.phase === 'open'
      ? 'As soon as it has ended, and its gate asks for nothing else,'
      : gate.soaksUntil !== null && Date.parse(gate.soaksUntil) > now
        ? 'When it has soaked, and nothing got worse,'
        : 'Now';
  return [
    ...stands,
    `${when} ${opened}.`,
    ...(next.heldBack ? [`That one is held back by ${next.heldBack.by}: it is not opened before that is taken back.`] : []),
  ];
}

/** What a word would do, and to whom, as the rollout stands now; nothing is done by asking. */
export function wouldDo(word: Word, r: Pick<Rollout, 'runs' | 'phase' | 'heldBecause'>, run?: RunView): string[] {
  const open = r.runs.filter((x) => x.outcome === null);
  const named = (some: readonly RunView[]): string =>
    `${some.length === 1 ? '1 device' : `${some.length} devices`} (${someOf(some.map((x) => x.name))})`;
  const past = open.filter((x) => x.pastReturn);
  const inHand = open.filter((x) => !x.pastReturn && x.phase === 'busy');
  const waiting = open.filter((x) => !x.pastReturn && x.phase !== 'busy');
  const goOn = past.length > 0 ? [`Go on to their end, since to stop there would harm them: ${named(past)}.`] : [];
  const step = inHand.length > 0 ? [`Finish the step in hand, then rest: ${named(inHand)}.`] : [];
  switch (word) {
    case 'hold':
      return [
        ...goOn,
        ...step,
        ...(waiting.length > 0 ? [`Are not begun until you say continue: ${named(waiting)}.`] : []),
        'Nothing is undone.',
      ];
    case 'stop':
      return [
        ...goOn,
        ...(inHand.length > 0 ? [`Finish the step in hand, then end withdrawn: ${named(inHand)}.`] : []),
        ...(waiting.length > 0 ? [`End withdrawn, as they are: ${named(waiting)}.`] : []),
        'It cannot be continued then; who was withdrawn can be retried.',
      ];
    case 'continue': {
      const failed = r.runs.filter((x) => x.outcome === 'failed' || x.outcome === 'recovered');
      return [
        ...(r.heldBecause ? [`Accepts why it is held: ${r.heldBecause}.`] : []),
        ...(failed.length > 0 ? [`Forgives, and leaves as they are: ${named(failed)}.`] : []),
        open.length > 0 ? `Goes on with ${named(open)}.` : 'Nobody is left to go on with.',
      ];
    }
    case 'retry':
      return run
        ? [
            `${run.name} is begun anew, from the first image that it was not verified on. What an earlier attempt brought is compared again, and not brought again.`,
          ]
        : [];
    case 'skip':
      return run
        ? run.pastReturn
          ? [`${run.name} is past its point of no return: it cannot be left out.`]
          : [
              `${run.name} is left as it is${run.phase === 'busy' ? ', as soon as the step in hand has ended' : ''}. Who needs it is not begun. It can be retried.`,
            ]
        : [];
    case 'take-over':
      return run
        ? run.pastReturn
          ? [`${run.name} is past its point of no return: Barrow takes it to its end.`]
          : [
              `${run.name} is yours${run.phase === 'busy' ? ', as soon as the step in hand has ended' : ''}: Barrow does nothing more to it, until you have it looked at with retry. Who needs it is not begun, and goes on by itself then.`,
            ]
        : [];
    case 'take-back':
      return run
        ? [
            ...(run.takeBack === null
              ? run.cutsOff === null
                ? [`${run.name} cannot be taken back now.`]
                : []
              : [`${run.name} is ${run.takeBack}, and looked at then.`]),
            ...(run.cutsOff === null
              ? []
              : [
                  `If you accept that others are cut off, it is started anew by cutting its power where that does not help: ${run.cutsOff.join(', ')} ${run.cutsOff.length === 1 ? 'loses' : 'lose'} power with it.`,
                ]),
          ]
        : [];
    case 'release':
      return run
        ? [`What guards ${run.name} is let go: what it hangs on may go down again. Say so only when it neither writes nor is down.`]
        : [];
  }
}
