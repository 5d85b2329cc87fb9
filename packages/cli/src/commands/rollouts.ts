import {
  cameText,
  duration,
  reportText,
  rungMeans,
  waysIn,
  type ForetoldView,
  type RehearsalView,
  type Report,
  type TimelineView,
  type Rollout,
  type RunView,
  type WayShown,
} from '@barrow/core';
import {
  beginsText,
  besideText,
  boundText,
  chainLines,
  foretoldText,
  groupBy,
  learnedText,
  mendedText,
  noticesBeside,
  paceOf,
  restOf,
  someOf,
  takenBackText,
  waveText,
  approvalDoes,
  wouldDo,
  type BarrowClient,
  type Word,
} from '@barrow/client';
import { collect, type CommandContext, type Register } from '../context.js';
import { soakText } from '../soak.js';
import { chartText } from '../chart.js';
import { latestStart, momentOf } from '../moments.js';
import { compare, comparedText, onlyIn } from '../compare.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { planFrom, planOptions, whole, type PlanOptions } from '../plan-options.js';
import { readText } from '../read-text.js';
import { clock, count, makeColours, outcomeMark, print, runMark, table, totalsOf, type Io, type Say } from '../output.js';
import { follow } from './follow.js';
import { registerProof } from './proof.js';

const commas = (text: string): string[] => text.split(',').map((word) => word.trim());

/** What a device ran before the leg in which it failed. */
const legFrom = (run: RunView): string => run.legs[run.leg]!.from;

/** Whom it did not go well with by itself, and what was done: also where all is well again. */
function triedLines({ runs }: Report): string[] {
  const lines = runs.flatMap(({ name, rungs }) =>
    rungs.map((r) => `${name}: ${r.for.cause.what} It was ${r.text}${r.by === null ? '' : ` on the word of ${r.by}`}: ${cameText(r)}`),
  );
  const earlier = runs.flatMap(({ name, earlier: all = [] }) =>
    all.map(
      ({ cause, detail, changed }, at) =>
        `${name}, attempt ${at + 1}: ${cause.what} ${detail}${changed.length === 0 ? ' No step that changes the device was begun' : ` Begun on the device: ${changed.join(', ')}`}`,
    ),
  );
  const all = [...earlier, ...lines];
  return all.length === 0 ? [] : [...all.map((line) => (line.endsWith('.') ? line : `${line}.`)), ''];
}

const indented = (text: string): string =>
  text
    .split('\n')
    .map((line) => `    ${line}`)
    .join('\n');

/** What failed and is behind it, and by what it stands again. */
const mendedLines = (io: Io, { name, mended }: RunView): string[] =>
  mended.flatMap((m) => {
    const c = makeColours(io);
    return [`${c.bold(name)}: ${m.cause.what} ${c.dim(`(${m.cause.code})`)}`, indented(m.detail), `    ${mendedText(m)}`];
  });

function causeLines(io: Io, run: RunView): string {
  const c = makeColours(io);
  const quoted = indented(run.detail ?? '');
  return [
    `${c.bold(run.name)}: ${run.cause!.what} ${c.dim(`(${run.cause!.code}, at ${run.step})`)}`,
    quoted,
    ...(run.attempt > 1
      ? [`    This was attempt ${run.attempt}. \`barrow report\` shows why it failed before, and what was done to the device.`]
      : []),
    ...run.tried.map(
      (t) =>
        `    Then ${t.text}, and that failed too: ${t.cause.what} ${c.dim(`(${t.cause.code}, at ${t.step})`)} ${t.detail.split('\n')[0]}`,
    ),
    ...(run.outcome === 'recovered'
      ? [...run.mended.slice(-1).map((m) => `    ${mendedText(m)}`), `    It is good again on ${legFrom(run)}, and not at its target.`]
      : []),
    ...(run.cutsOff === null
      ? []
      : [
          `    ${c.dim(`Its power can be cut where it is fed, if you accept that ${run.cutsOff.join(', ')} ${run.cutsOff.length === 1 ? 'loses' : 'lose'} power with it: \`barrow rollout take-back --accept cut-off\`.`)}`,
        ]),
    `    ${c.dim(`Next: ${run.takeBack === null ? run.cause!.next : `it can be ${run.takeBack}, with \`barrow rollout take-back\`. Or: ${run.cause!.next}`}`)}`,
  ]
    .filter((l) => l.trim() !== '')
    .join('\n');
}

/** Why some failed, and after them what failed of others and is behind them. */
const troubleLines = (io: Io, runs: readonly RunView[]): string[] => [
  ...runs.filter((r) => r.cause).map((r) => causeLines(io, r)),
  ...runs.filter((r) => !r.cause).flatMap((r) => mendedLines(io, r)),
];

/** What has to stand in the command that starts it. */
function acceptText({ hazards }: Rollout): string {
  const codes = hazards.filter((h) => h.accept).map((h) => h.code);
  return codes.length === 0 ? '' : ` --accept ${codes.join(',')}`;
}

/** What could hurt, those first that have to be accepted, and how. */
function hazardLines(io: Io, r: Rollout): string[] {
  const { hazards } = r;
  const c = makeColours(io);
  const accept = acceptText(r);
  return [
    'What could hurt:',
    ...hazards.flatMap((h) => [
      `  ${h.accept ? c.red('! ') : '  '}${h.what} ${c.dim(`(${h.code}${h.accept ? ', to be accepted' : ''})`)}`,
      ...h.groups.map((g) => `      ${someOf(g.devices)}: ${g.words}${g.forMs === null ? '' : `, for about ${duration(g.forMs)}`}`),
    ]),
    ...(accept === '' ? [] : [`  Accepted, it begins: \`barrow rollout start ${r.id}${accept}\`.`]),
  ];
}

export function rolloutText(io: Io, r: Rollout): string {
  const c = makeColours(io);
  const parts = [
    `${r.name}   ${r.id}   ${r.phase}${r.startedAt ? `, started ${clock(r.startedAt)} by ${r.startedBy}` : `, planned by ${r.createdBy}`}`,
  ];
  if (r.trouble) parts.push(c.red(`✕ ${r.trouble.what}: ${r.trouble.why} ${r.trouble.next}`));
  parts.push(...r.remarks.map((remark) => c.yellow(remark)));
  if (r.heldBecause) parts.push(`HELD by ${r.heldBy}: ${r.heldBecause}`);
  const down = Math.max(0, ...r.runs.map((x) => x.downMs));
  if (r.phase === 'planned' && r.runs.length > 0)
    parts.push(
      ...waysIn(r).map(
        ({ who, steps }) =>
          `Steps${who === '' ? '' : ` of ${who}`}: ${stepsText(steps)}. Point of no return: ${steps.find((s) => s.pastReturn)?.step}.`,
      ),
      wayBackText(r),
      ...r.windows.map(
        (w) =>
          `${r.windows.length > 1 ? `${count(w.devices, 'device')} ${w.devices === 1 ? 'goes' : 'go'}` : 'Devices go'} down only in the window ${w.text}${nextText(w)}.`,
      ),
      `Each device is down for about ${duration(down)}. ${r.unsaved === 'save' ? 'Settings that are not saved to startup are saved first.' : 'A device with settings that are not saved to startup is left out (`--unsaved save`: Barrow saves them).'} At most ${r.limits['rollout']} at once.${apartText(r)}`,
      learnedText(r),
    );
  for (const wave of r.waves) {
    const runs = r.runs.filter((x) => x.wave === wave.index);
    const gate = [
      wave.gate.soakMs > 0 ? `soak ${duration(wave.gate.soakMs)}` : null,
      `held at ${wave.gate.failureLimit} failed${wave.gate.failureShare === undefined ? '' : ` or ${wave.gate.failureShare} %`}`,
      wave.gate.absentLimit === undefined ? null : `at most ${wave.gate.absentLimit} absent`,
      wave.gate.approval ? (wave.approvedBy ? `approved by ${wave.approvedBy}` : "a person's word") : null,
    ].filter(Boolean);
    parts.push(
      '',
      `Wave ${wave.index + 1} (${wave.name}), ${count(runs.length, 'device')}, ${waveText(wave, r.phase)}${wave.soaksUntil && r.phase !== 'ended' ? ` until ${clock(wave.soaksUntil)}` : ''}; gate: ${gate.join(', ')}`,
      ...(wave.heldBack ? [`  held back by ${wave.heldBack.by}: ${wave.heldBack.reason}`] : []),
      ...(wave.soak.worse ? [`  got worse while it soaked: ${wave.soak.worse}; \`barrow rollout soak ${r.id}\` shows it`] : []),
    );
    parts.push(
      table(
        io,
        ['DEVICE', 'ADDRESS', 'SITE', 'FROM', 'TO', 'IMAGE', 'STATE'],
        runs.map((x) => [x.name, x.address, x.site, x.from, x.target, x.file, runMark(io, x, paceOf(x, r.passages, Date.now()))]),
      ),
    );
  }
  const known = groupBy(r.runs, noticesBeside(r), (x) => x.name);
  if (r.phase === 'planned' && known.length > 0) parts.push('', 'Know before:', ...known.map((k) => `  ${someOf(k.names)}: ${k.words}`));
  if (r.phase === 'planned' && r.hazards.length > 0) parts.push('', ...hazardLines(io, r));
  const left = groupBy(
    r.leftOut,
    (l) => [l.reason],
    (l) => l.name,
  );
  if (left.length > 0 && r.phase === 'planned') parts.push('', 'Left out:', ...left.map((l) => `  ${someOf(l.names)}: ${l.words}`));
  // Who reads of a rollout under way has read the plan; a few are still named.
  else if (left.length > 0) parts.push('', `Left out: ${someOf(r.leftOut.map((l) => l.name))}; why is in \`barrow report ${r.id}\`.`);
  const asked = r.runs.flatMap((x) =>
    x.asks === null
      ? []
      : [
          `  ${c.bold(x.name)}: ${x.asks} Then: \`barrow rollout ${x.asksToTell ? 'answer' : 'done'} ${r.id} ${x.name}${x.asksToTell ? ' ANSWER' : ''}\`.`,
        ],
  );
  if (asked.length > 0) parts.push('', 'To be done by hand now:', ...asked);
  const trouble = troubleLines(io, r.runs);
  if (trouble.length > 0) parts.push('', ...trouble);
  if (r.phase !== 'planned') parts.push('', `${totalsOf(r)}.`);
  return parts.join('\n');
}

/** Steps in their order, and where they wait for the soak. */
const stepsText = (steps: WayShown['steps']): string =>
  steps.map((s, i) => `${s.afterSoak && !steps[i - 1]?.afterSoak ? '(soak) → ' : ''}${s.step}`).join(' → ');

const apartText = ({ apartMs }: Rollout): string =>
  apartMs > 0 ? ` Devices of one site begin to go down at least ${duration(apartMs)} apart.` : '';

const nextText = ({ next }: NonNullable<Rollout['window']>): string =>
  next === null
    ? ', which does not come again'
    : Date.parse(next.from) <= Date.now()
      ? `, open until ${clock(next.until)}`
      : `, next ${clock(next.from)} to ${clock(next.until)}`;

/** The recovery steps of a device that fails after the point of no return, in a sentence. */
function wayBackText({ passages, wayBack }: Rollout): string {
  const rungs = passages.flatMap((p) => p.rungs);
  const texts = rungMeans.flatMap((m) => [...new Set(rungs.flatMap((g) => (g.means === m ? [g.text] : [])))]);
  if (texts.length === 0) return 'A device that fails after it has no recovery step: it stays as it is.';
  return `A device that fails after it takes the recovery steps of its family, ${wayBack ? 'at once' : 'when you say so (`barrow rollout take-back ROLLOUT DEVICE`)'}: ${texts.join(', then ')}.`;
}

function rehearsalText(io: Io, r: RehearsalView, isChart: boolean): string {
  const from = (moment: string | null): string => (moment === null ? '–' : `+${duration(Date.parse(moment) - Date.parse(r.beginsAt))}`);
  const isWhatIf = r.ifs.length > 0;
  return [
    ...r.ifs.map((one) => `What if ${one}:`),
    ...r.holds.map((h) => `Held ${from(h.at)}: ${h.because}.`),
    ...(isWhatIf ? [`In the end: ${totalsOf(r)}.`] : []),
    r.stuck === null
      ? `It would take ${duration(r.totalMs)}: begun now, ended ${clock(r.endsAt)}. At most ${r.mostAtOnce} under way and ${r.mostDown} down at once.`
      : isWhatIf
        ? `It would stand there until a person says more.`
        : `It would not come to its end: ${r.stuck}.`,
    ...(r.approvals.length > 0
      ? [`Not counted: the wait for a person's word after wave ${r.approvals.map((w) => w + 1).join(', ')}.`]
      : []),
    ...boundText(r),
    ...r.waves.map((w) => `Wave ${w.wave + 1}: ${from(w.opensAt)} to ${from(w.endsAt)}`),
    '',
    isChart
      ? chartText(io, r)
      : table(
          io,
          ['DEVICE', 'WAVE', 'BEGINS', 'GOES DOWN', 'DOWN FOR', 'ENDS', ...(isWhatIf ? ['HOW'] : [])],
          r.runs.map((x) => [
            x.name,
            x.wave + 1,
            from(x.beginsAt),
            from(x.downFrom),
            x.downs === 0 ? '–' : x.downUntil === null ? 'not back' : `${duration(x.downMs)}${x.downs > 1 ? ` in ${x.downs} times` : ''}`,
            from(x.endsAt),
            ...(isWhatIf ? [[x.outcome ?? 'no end', ...x.rungs].join(', ')] : []),
          ]),
          [1],
        ),
    ...(isWhatIf || r.chain.length === 0
      ? []
      : [
          '',
          'What makes it long, one after the other:',
          table(
            io,
            ['FROM', 'FOR', 'WHO', 'WHY NOT SOONER'],
            chainLines(r).map((line) => [`+${duration(line.after)}`, duration(line.takes), line.what, line.why]),
          ),
        ]),
  ].join('\n');
}

/** Happened and foretold, and how far its end is from what was rehearsed. */
function timelineText(io: Io, t: TimelineView): string {
  const [begins, now] = [Date.parse(t.beginsAt), Date.parse(t.now)];
  const total = Math.max(Date.parse(t.endsAt), ...t.runs.map((r) => Date.parse(r.endsAt)), now) - begins;
  return [
    chartText(io, { ...t, totalMs: total }, now),
    '',
    `Begun ${clock(t.beginsAt)}, now ${clock(t.now)}; it ${now >= Date.parse(t.endsAt) ? 'ended' : 'ends about'} ${clock(t.endsAt)}, ${besideText(t.endsAt, t.rehearsed.endsAt)}.`,
    ...(t.stuck === null ? [] : [`As it stands it does not come to its end: ${t.stuck}.`]),
  ].join('\n');
}

/** What a followed rollout means for the exit code: every device of it was verified, or not. */
function judge(r: Rollout): void {
  if (r.phase === 'held' || (r.totals.verified ?? 0) < r.devices) throw new Quiet(exit.workFailed);
}

/** `from`: the journal entry to begin after, so that nothing of the start is missed. */
async function followAndTell({ say }: CommandContext, barrow: BarrowClient, id: string, from?: number): Promise<void> {
  const end = await follow(say, barrow, id, from);
  print(say, end, () => {
    const advice =
      end.phase === 'held'
        ? [`Held: ${end.heldBecause}.`, `Go on with \`barrow rollout continue ${id}\`, or end it with \`barrow rollout stop ${id}\`.`]
        : [`Report: \`barrow report ${id}\``];
    return ['', ...troubleLines(say.io, end.runs), `${totalsOf(end)}.`, ...advice].join('\n');
  });
  judge(end);
}

interface StartOptions {
  readonly follow?: boolean;
  readonly accept?: string[];
  readonly reason?: string;
  readonly at?: string;
  readonly startBefore?: string;
  readonly doneBy?: string;
}

/** When it comes to its end; null when it has meanwhile. */
const foretoldOf = (barrow: BarrowClient, id: string): Promise<ForetoldView | null> => barrow.foretold(id).catch(() => null);

const underWay = ['running', 'held', 'stopping'];

/** Which is meant by "latest": the newest in such a phase, or else the newest. */
async function resolve(barrow: BarrowClient, id: string, phases: readonly string[] = underWay): Promise<string> {
  if (id !== 'latest') return id;
  if (phases.includes('planned')) return lastPlan(barrow);
  const all = await barrow.rollouts();
  const found = all.find((r) => phases.includes(r.phase)) ?? all[0];
  if (!found)
    throw new CommandError(
      exit.wrongUse,
      'rollout-unknown',
      'There is no rollout',
      'None was planned yet.',
      'Plan one with `barrow rollout plan`.',
    );
  return found.id;
}

/** The plan that this person's last plan command made. An older one is never meant: it may hold other devices. */
async function lastPlan(barrow: BarrowClient): Promise<string> {
  const { rollout, asked } = await barrow.lastPlan();
  if (rollout !== null) return rollout;
  throw new CommandError(
    exit.refused,
    'no-last-plan',
    'There is no latest plan',
    asked ? 'Your last plan command was refused, or its plan was discarded.' : 'You have planned nothing yet.',
    'Plan again, or name the plan by its id: `barrow rollout list` shows all plans.',
  );
}

/** Tells what a word would do, and does nothing. */
function tellWould(say: Say, word: Word, r: Rollout, run?: RunView): void {
  const would = wouldDo(word, r, run);
  print(say, { word, would }, () => [...would, '', nothingSaid].join('\n'));
}

const nothingSaid = 'Nothing was said to it.';
const watchWord = (id: string): string => `Watch it with \`barrow rollout follow ${id}\`.`;

/** What follows from a word: what still goes on, and what to say next. */
function followsOf(word: 'hold' | 'continue' | 'stop', r: Rollout): string[] {
  const past = r.runs.filter((x) => x.outcome === null && x.pastReturn).map((x) => x.name);
  const busy = r.runs.filter((x) => x.phase === 'busy' && !x.pastReturn).map((x) => x.name);
  const goOn = past.length > 0 ? [`Past their point of no return, and taken to their end: ${someOf(past)}.`] : [];
  const step = busy.length > 0 ? [`Finishing the step in hand: ${someOf(busy)}.`] : [];
  if (word === 'hold') return [...goOn, ...step, `Nothing more begins until \`barrow rollout continue ${r.id}\`.`];
  if (word === 'stop')
    return [
      ...goOn,
      ...step,
      r.phase === 'ended' ? `Report: \`barrow report ${r.id}\`` : 'All others are withdrawn, and stay as they are.',
    ];
  return [`Failures until now are forgiven; the next one counts anew. Watch it with \`barrow rollout follow ${r.id}\`.`];
}

function tellPlan(say: Say, made: Rollout): void {
  print(
    say,
    made,
    () =>
      `${rolloutText(say.io, made)}\n\nNothing is begun. Next: \`barrow rollout rehearse ${made.id}\`, then \`barrow rollout start ${made.id}${acceptText(made)}\`.`,
  );
}

/** Into a file where one was named, else to where the answer goes. */
async function putOut(say: Say, output: string | undefined, text: string): Promise<void> {
  if (output === undefined) return void say.io.out(text);
  const { writeFile } = await import('node:fs/promises');
  await writeFile(output, text).catch((error: NodeJS.ErrnoException) => {
    throw new CommandError(
      exit.wrongUse,
      'file-unwritable',
      'The file was not written',
      `${output}: ${error.code === 'ENOENT' ? 'its folder is not there' : (error.code ?? error.message)}.`,
      'Check the path, and that you may write there.',
    );
  });
  say.io.err(`Written to ${output}.\n`);
}

/** Of larger plans the way back is planned only when it is wanted: `plan-back`. */
const mostForWayBack = 1000;

export const registerRollouts: Register = (program, act) => {
  const rollout = program.command('rollout').description('upgrades in waves; ROLLOUT may be "latest"');
  planOptions(
    rollout
      .command('plan [devices...]')
      .description('plan for these devices, or for all that are behind; nothing is begun')
      .option('--site <site>', 'only devices of this site')
      .option('--family <family>', 'only devices of this family')
      .option('--model <model>', 'only devices of this model')
      .option('--kind <kind>', 'only devices of this kind, e.g. switch, camera, phone')
      .option('--tag <tag>', 'only devices with this tag')
      .option('--older', 'also take the named devices back to an older target, where an image allows it'),
  ).action(act(async ({ say, client }, devices: string[], o: PlanOptions) => tellPlan(say, await client().plan(planFrom(o, devices)))));
  planOptions(
    rollout.command('plan-rest <rollout>').description('plan anew for those of an ended rollout that were not verified; nothing is begun'),
  ).action(
    act(async ({ say, client }, id: string, o: PlanOptions) => {
      const barrow = client();
      const r = await barrow.rollout(await resolve(barrow, id));
      const rest = restOf(r);
      if (r.phase !== 'ended' || rest.length === 0)
        throw new CommandError(
          exit.refused,
          'nothing-left',
          'There is no rest to plan',
          r.phase === 'ended' ? `Every device of "${r.name}" was verified.` : `"${r.name}" has not ended: it is ${r.phase}.`,
          `\`barrow rollout show ${r.id}\` shows how each of them stands.`,
        );
      tellPlan(
        say,
        await barrow.plan({
          ...planFrom(
            o,
            rest.map((x) => x.device),
          ),
          name: o.name ?? `rest of ${r.name}`,
        }),
      );
    }),
  );
  planOptions(
    rollout
      .command('plan-back <rollout> [devices...]')
      .description('plan the way back of the verified devices of a rollout, or of these, to what they ran before it; nothing is begun'),
  ).action(
    act(async ({ say, client }, id: string, devices: string[], o: PlanOptions) => {
      const barrow = client();
      tellPlan(say, await barrow.plan({ ...planFrom(o, devices), backFrom: await resolve(barrow, id) }));
    }),
  );
  rollout
    .command('write <rollout>')
    .description('the plan of a rollout as a file (JSON), to be kept, looked over, or planned anew with `plan-from`')
    .option('--output <file>', 'into a file')
    .action(
      act(async ({ say, client }, id: string, o: { output?: string }) => {
        const barrow = client();
        const file = await barrow.planFile(await resolve(barrow, id));
        await putOut(say, o.output, `${JSON.stringify(file, null, 2)}\n`);
      }),
    );
  rollout
    .command('plan-from <file>')
    .description('plan anew what a file of a plan says, and tell what is otherwise today; nothing is begun')
    .action(
      act(async ({ say, client }, file: string) => {
        const text = await readText(file);
        let given: unknown;
        try {
          given = JSON.parse(text);
        } catch (error) {
          throw new CommandError(
            exit.wrongUse,
            'plan-file-malformed',
            'The plan was not read',
            `${file} is no JSON: ${(error as Error).message}.`,
            'Give a file that `barrow rollout write` has written.',
          );
        }
        tellPlan(say, await client().planFromFile(given as Parameters<BarrowClient['planFromFile']>[0]));
      }),
    );
  rollout
    .command('list')
    .description('rollouts, newest first')
    .action(
      act(async ({ say, client }) => {
        const all = await client().rollouts();
        print(say, all, () =>
          all.length === 0
            ? 'No rollouts yet. Plan one with `barrow rollout plan`.'
            : table(
                say.io,
                ['ID', 'NAME', 'PHASE', 'PLANNED', 'STARTED BY', 'RESULT'],
                all.map((r) => [r.id, r.name, r.phase, clock(r.createdAt), r.startedBy, totalsOf(r)]),
              ),
        );
      }),
    );
  rollout
    .command('show <rollout>')
    .description('who, in what order, how it stands, and why devices failed')
    .option('--device <device>', "one device's passage with its checks and conversations")
    .option('--chart', 'what happened until now and is foretold of the rest, as a chart')
    .action(
      act(async ({ say, client }, id: string, o: { device?: string; chart?: boolean }) => {
        const barrow = client();
        const found = await resolve(barrow, id);
        if (o.chart) {
          const t = await barrow.timeline(found);
          return print(say, t, () => timelineText(say.io, t));
        }
        if (!o.device) {
          const r = await barrow.rollout(found);
          const told = r.phase === 'running' || r.phase === 'held' || r.phase === 'stopping' ? await foretoldOf(barrow, found) : null;
          const begins = beginsText(r);
          return print(say, r, () =>
            [rolloutText(say.io, r), ...(begins ? [begins] : []), ...(told ? [foretoldText(told)] : [])].join('\n'),
          );
        }
        const d = await barrow.run(found, o.device);
        print(say, d, () =>
          [
            `${d.run.name}  ${d.run.from} → ${d.run.target}  ${runMark(say.io, d.run)}`,
            ...troubleLines(say.io, [d.run]),
            '',
            ...d.events.map(
              ({ event: e }) =>
                `${clock(new Date(e.at).toISOString())}  ${e.kind}${'step' in e ? ` ${e.step}` : ''}${'cause' in e ? `: ${e.cause}` : ''}`,
            ),
            ...(d.checks.length > 0
              ? [
                  '',
                  table(
                    say.io,
                    ['CHECK', 'RESULT', 'BEFORE', 'AFTER', 'EVIDENCE'],
                    d.checks.map((k) => [k.name, k.result, k.before, k.after, k.evidence.slice(0, 4).join('; ')]),
                  ),
                ]
              : []),
            ...d.conversations.flatMap((k) => ['', `── ${k.step}, ${clock(k.at)}`, k.text.trimEnd()]),
          ].join('\n'),
        );
      }),
    );
  rollout
    .command('rehearse <rollout>')
    .description('what would happen and when, by the rules that the runner obeys')
    .option('--if <device>', 'what if it fails: DEVICE, DEVICE@STEP or DEVICE@STEP:CAUSE; may repeat', collect, [])
    .option('--go-on', 'and a person has it go on as soon as it is held')
    .option('--chart', 'as a chart: a row for each device, time to the right')
    .action(
      act(async ({ say, client }, id: string, o: { if: string[]; goOn?: boolean; chart?: boolean }) => {
        const barrow = client();
        const found = await resolve(barrow, id, ['planned']);
        const r = await barrow.rehearsal(found, o.if, o.goOn === true);
        const wayBack = o.if.length > 0 || r.devices > mostForWayBack ? null : await barrow.wayBackAhead(found);
        print(say, { ...r, wayBack }, () =>
          [rehearsalText(say.io, r, o.chart === true), ...(wayBack === null ? [] : ['', ...takenBackText(wayBack)])].join('\n'),
        );
      }),
    );
  rollout
    .command('sheet <rollout>')
    .description('the night on paper: order, times, who is there, the way back, and what to type by hand (HTML)')
    .option('--output <file>', 'into a file')
    .action(
      act(async ({ say, client }, id: string, o: { output?: string }) => {
        const barrow = client();
        await putOut(say, o.output, await barrow.sheet(await resolve(barrow, id)));
      }),
    );
  rollout
    .command('page <rollout> <device>')
    .description('a page for who stands before a device that failed: what not to do, what to do, what was tried (HTML, for a phone)')
    .option('--output <file>', 'into a file')
    .action(
      act(async ({ say, client }, id: string, device: string, o: { output?: string }) => {
        const barrow = client();
        await putOut(say, o.output, await barrow.atSite(await resolve(barrow, id), device));
      }),
    );
  rollout
    .command('compare <plan> <other>')
    .description('two plans side by side, as they would go')
    .action(
      act(async ({ say, client }, ...ids: string[]) => {
        const barrow = client();
        const found = await Promise.all(
          ids.slice(0, 2).map(async (word) => {
            const id = await resolve(barrow, word);
            return { plan: await barrow.rollout(id), rehearsal: await barrow.rehearsal(id, [], false) };
          }),
        );
        const [a, b] = [found[0]!, found[1]!];
        print(say, { lines: compare(a, b), onlyIn: [onlyIn(a, b), onlyIn(b, a)] }, () => comparedText(say.io, a, b));
      }),
    );
  rollout
    .command('start <rollout>')
    .description('begin')
    .option('--accept <hazards>', 'what could hurt and is accepted: its names with commas between them, or all', commas)
    .option('--reason <text>', 'why you accept it; the report shows it')
    .option('--at <moment>', "not now: 22:00 (the next one), '2026-11-27 22:00' or +2h; none: it does not begin by itself any more")
    .option('--start-before <moment>', 'if Barrow is not there at that moment: until when it may still begin (an hour after it)')
    .option('--done-by <moment>', 'refused if its rehearsal ends later; nobody goes down who would not be back by then')
    .option('--follow', 'and watch until it ends or is held')
    .action(
      act(async (context, id: string, o: StartOptions) => {
        if (o.reason !== undefined && o.accept === undefined)
          throw new CommandError(
            exit.wrongUse,
            'reason-without-accept',
            'The command was not understood',
            '--reason says why you accept risks, and belongs to --accept.',
            'Name the risks with --accept, or leave --reason out.',
          );
        const barrow = context.client();
        const found = await resolve(barrow, id, ['planned']);
        if (o.at === 'none') {
          const r = await barrow.say(found, 'start-not');
          return print(context.say, r, () => `${r.name} does not begin by itself any more.`);
        }
        if (o.startBefore !== undefined && o.at === undefined)
          throw new CommandError(
            exit.wrongUse,
            'moment-missing',
            'The command was not understood',
            '--start-before says how late it may begin, and belongs to --at.',
            'Say when it begins with --at, or leave --start-before out.',
          );
        if (o.follow && o.at !== undefined)
          throw new CommandError(
            exit.wrongUse,
            'follow-later',
            'The command was not understood',
            'With --at it begins later, and there is nothing to watch until then.',
            `Leave --follow out; \`barrow rollout follow ${found}\` watches it then.`,
          );
        const at = o.at === undefined ? null : momentOf('--at', o.at, Date.now());
        const from = at === null ? Date.now() : Date.parse(at);
        const times = {
          ...(at === null ? {} : { at }),
          ...(o.startBefore === undefined ? {} : { latest: latestStart(o.startBefore, from) }),
          ...(o.doneBy === undefined ? {} : { doneBy: momentOf('--done-by', o.doneBy, from) }),
        };
        const { journal } = await barrow.rollout(found);
        const r = await barrow.say(found, 'start', { accept: o.accept ?? [], reason: o.reason ?? null, ...times });
        if (o.follow) return followAndTell(context, barrow, found, journal);
        const begun = at === null ? `Started ${r.name}.` : `${r.name} is not begun yet.`;
        print(context.say, r, () =>
          [begun, beginsText(r), `Watch it with \`barrow rollout follow ${r.id}\`.`].filter((t) => t !== null).join(' '),
        );
      }),
    );
  rollout
    .command('follow <rollout>')
    .description('watch until it ends or is held')
    .action(
      act(async (context, id: string) => {
        const barrow = context.client();
        const known = await resolve(barrow, id);
        if ((await barrow.rollout(known)).phase === 'planned')
          throw new CommandError(
            exit.refused,
            'rollout-not-started',
            'There is nothing to follow',
            `Nobody has started the plan ${known}.`,
            `Start it: \`barrow rollout start ${known} --follow\`.`,
          );
        await followAndTell(context, barrow, known);
      }),
    );
  const words: [string, 'hold' | 'continue' | 'stop', string, string][] = [
    ['hold <rollout>', 'hold', 'begin nothing more; runs past their point of no return go on', 'Held'],
    ['continue <rollout>', 'continue', 'go on after a hold; failures seen so far are forgiven', 'Continued'],
    ['stop <rollout>', 'stop', 'end early; runs past their point of no return go on to their end', 'Stopping'],
  ];
  for (const [usage, word, description, told] of words) {
    const command = rollout.command(usage).description(description).option('--look', 'only tell what that would do, and to whom');
    if (word === 'hold') command.option('--reason <text>', 'why', 'asked to');
    if (word === 'hold') command.option('--wave <n>', 'only this wave: it is not opened until you say continue --wave');
    if (word === 'continue') command.option('--wave <n>', 'only this wave, which was held back');
    command.action(
      act(async ({ say, client }, id: string, o: { reason?: string; wave?: string; look?: true }) => {
        const barrow = client();
        if (o.look) return tellWould(say, word, await barrow.rollout(await resolve(barrow, id)));
        const wave = o.wave === undefined ? {} : { wave: whole('--wave', o.wave) - 1 };
        const r = await barrow.say(await resolve(barrow, id), word, word === 'hold' ? { reason: o.reason, ...wave } : wave);
        const one = wave.wave === undefined ? null : r.waves[wave.wave]!;
        print(say, r, () =>
          one
            ? word === 'hold'
              ? `Wave ${one.index + 1} (${one.name}) of ${r.name} is held back: it is not opened until \`barrow rollout continue ${r.id} --wave ${one.index + 1}\`. Waves before it go on.`
              : `Wave ${one.index + 1} (${one.name}) of ${r.name} is opened when its turn comes.`
            : [`${told}: ${r.name}. ${totalsOf(r)}.`, ...followsOf(word, r)].join('\n'),
        );
      }),
    );
  }
  rollout
    .command('expect <rollout> <device>')
    .description('look at what the upgrade changed in the settings of a device that failed for that, and accept it for this version step')
    .option('--yes', 'accept it; without, it is only shown')
    .action(
      act(async ({ say, client }, id: string, device: string, o: { yes?: true }) => {
        const barrow = client();
        const found = await resolve(barrow, id);
        const seen = await barrow.expect(found, device, { accept: o.yes === true });
        print(say, seen, () => {
          const lines = `${count(seen.lines.length, 'line')} of ${seen.family} from ${seen.from} to ${seen.to}`;
          return seen.accepted
            ? `${lines} ${seen.lines.length === 1 ? 'is' : 'are'} expected from now on, of every device of the family. Go on with this one: \`barrow rollout retry ${found} ${device}\`.`
            : `${lines} ${seen.lines.length === 1 ? 'is' : 'are'} otherwise:\n${seen.lines.map((l) => `  ${l}`).join('\n')}\n\nNothing was accepted. If that comes with the version, say \`barrow rollout expect ${found} ${device} --yes\`.`;
        });
      }),
    );
  rollout
    .command('soak <rollout>')
    .description('what devices showed while they soaked, beside some of the same model that nobody touched')
    .action(
      act(async ({ say, client }, id: string) => {
        const barrow = client();
        const found = await resolve(barrow, id);
        const [soaks, r] = await Promise.all([barrow.soaks(found), barrow.rollout(found)]);
        print(say, { soaks }, () => soakText(say.io, soaks, r));
      }),
    );
  rollout
    .command('discard <rollout>')
    .description('forget a plan that was not started')
    .action(
      act(async ({ say, client }, id: string) => {
        const barrow = client();
        const { removed } = await barrow.discardRollout(await resolve(barrow, id, ['planned']));
        print(say, { removed }, () => `Discarded ${removed}. Its devices are free.`);
      }),
    );
  rollout
    .command('approve <rollout>')
    .description('give the word that a gate waits for')
    .option('--wave <n>', 'the wave whose gate it is; the current one by default')
    .option('--look', 'only tell what that would do, and to whom')
    .action(
      act(async ({ say, client }, id: string, o: { wave?: string; look?: true }) => {
        const barrow = client();
        const found = await resolve(barrow, id);
        const before = await barrow.rollout(found);
        const wave = o.wave === undefined ? Math.max(0, before.currentWave) : whole('--wave', o.wave) - 1;
        const would = approvalDoes(before, wave);
        if (o.look) return print(say, { word: 'approve', would }, () => [...would, '', nothingSaid].join('\n'));
        const r = await barrow.say(found, 'approve', { wave });
        print(say, r, () => [`Approved: wave ${wave + 1} of ${r.name}.`, ...would, watchWord(r.id)].join('\n'));
      }),
    );
  const deeds = {
    retry: ['begin an ended run anew', 'Retrying'],
    skip: ['leave a device out that is not past its point of no return', 'Left out'],
    'take-over': ['do a device by hand yourself: Barrow leaves it alone until you have it looked at', 'Yours'],
    'take-back': ['have a device that failed past its point of no return taken back to what it ran', 'Being taken back'],
    release: ['let go what guards a failed device: it is neither down nor writing any more', 'Released'],
  } as const;
  for (const word of ['retry', 'skip', 'take-over', 'take-back', 'release'] as const) {
    const command = rollout
      .command(`${word} <rollout> <device>`)
      .description(deeds[word][0])
      .option('--reason <text>', 'why', 'asked to')
      .option('--look', 'only tell what that would do');
    if (word === 'take-back')
      command.option('--accept <hazards>', 'what could hurt others and is accepted: cut-off, they lose their power with it', commas);
    command.action(
      act(async ({ say, client }, id: string, device: string, o: { reason: string; look?: true; accept?: string[] }) => {
        const barrow = client();
        if (o.look) {
          const now = await barrow.rollout(await resolve(barrow, id));
          return tellWould(say, word, now, (await barrow.run(now.id, device)).run);
        }
        const r = await barrow.sayRun(await resolve(barrow, id), device, word, {
          reason: o.reason,
          ...(o.accept === undefined ? {} : { accept: o.accept }),
        });
        const pending =
          (word === 'skip' || word === 'take-over') &&
          r.runs.find((x) => [x.id, x.name, x.serial, x.address].includes(device))?.outcome === null;
        print(say, r, () =>
          pending
            ? `${device} is left out of ${r.name} as soon as the step in hand has ended; until then it counts.`
            : `${deeds[word][1]}: ${device} in ${r.name}. ${totalsOf(r)}.${word === 'take-over' ? ` When you are done: \`barrow rollout retry ${r.id} ${device}\`; Barrow looks at it, and who needs it goes on.` : ''}`,
        );
      }),
    );
  }
  rollout
    .command('done <rollout> <device>')
    .description('say that what you were asked to do by hand is done')
    .option('--note <text>', 'what you found, for the report', '')
    .action(
      act(async ({ say, client }, id: string, device: string, o: { note: string }) => {
        const barrow = client();
        const r = await barrow.sayRun(await resolve(barrow, id), device, 'done', { note: o.note });
        print(say, r, () => `Done: ${device} goes on in ${r.name}. Watch it with \`barrow rollout follow ${r.id}\`.`);
      }),
    );
  rollout
    .command('answer <rollout> <device> <answer>')
    .description('answer what you were asked to tell, e.g. a code that stands on the device')
    .action(
      act(async ({ say, client }, id: string, device: string, answer: string) => {
        const barrow = client();
        const r = await barrow.sayRun(await resolve(barrow, id), device, 'answer', { answer });
        print(say, r, () => `Answered: ${device} goes on in ${r.name}. Watch it with \`barrow rollout follow ${r.id}\`.`);
      }),
    );
  rollout
    .command('note <rollout> <text>')
    .description('write a note into the journal')
    .action(
      act(async ({ say, client }, id: string, text: string) => {
        const barrow = client();
        const r = await barrow.say(await resolve(barrow, id), 'note', { text });
        print(say, r, () => `Noted in ${r.name}.`);
      }),
    );

  program
    .command('upgrade <device>')
    .description('one device, now, with every safeguard of a rollout')
    .option('--unsaved <what>', 'settings that nobody saved: hold or save', 'hold')
    .option('--accept <hazards>', 'what could hurt and is accepted: its names with commas between them, or all', commas)
    .action(
      act(async (context, device: string, o: { unsaved: string; accept?: string[] }) => {
        const barrow = context.client();
        const plan = await barrow.plan({ devices: [device], first: 0, atOnce: 1, soakSeconds: 0, unsaved: o.unsaved as 'hold' });
        await barrow.say(plan.id, 'start', { accept: o.accept ?? [] }).catch(async (error: unknown) => {
          // Refused, it leaves nothing behind that somebody would take for a plan.
          await barrow.discardRollout(plan.id).catch(() => undefined);
          throw error;
        });
        await followAndTell(context, barrow, plan.id, plan.journal);
      }),
    );

  const report = program.command('report <rollout>').description('the evidence of a rollout');
  registerProof(report, act);
  report
    .option('--format <format>', 'text, html, csv or json', 'text')
    .option('--output <file>', 'into a file')
    .action(
      act(async ({ say, client }, id: string, o: { format: string; output?: string }) => {
        const barrow = client();
        const found = await resolve(barrow, id);
        if (!['text', 'html', 'csv', 'json'].includes(o.format))
          throw new CommandError(
            exit.wrongUse,
            'format-unknown',
            'The command was not understood',
            `There is no format "${o.format}".`,
            'Use text, html, csv or json.',
          );
        const report = await barrow.report(found);
        let text: string;
        if (say.json || o.format === 'json') text = reportText(report);
        else if (o.format === 'html' || o.format === 'csv') text = await barrow.reportAs(found, o.format);
        else
          text = [
            `${report.rollout.name}   ${report.rollout.id}   ${report.rollout.phase}`,
            `Started ${clock(report.rollout.startedAt)} by ${report.rollout.startedBy ?? 'nobody yet'}, ended ${clock(report.rollout.endedAt)}.`,
            `${totalsOf(report.rollout)}.`,
            '',
            table(
              say.io,
              ['DEVICE', 'OUTCOME', 'BEFORE', 'AFTER', 'DOWN FOR', 'CHECKS', 'BACKUP', 'CAUSE'],
              report.runs.map((r) => [
                r.name,
                r.outcome ? outcomeMark(say.io, r.outcome) : 'not ended',
                r.before,
                r.after,
                r.downMs === null ? null : duration(r.downMs),
                r.checks.length > 0 ? `${r.checks.filter((k) => k.result === 'passed').length} of ${r.checks.length}` : null,
                r.backup ? `${r.backup.slice(0, 8)}…` : null,
                r.cause?.code ?? '',
              ]),
            ),
            '',
            ...triedLines(report),
            ...report.images.map((i) => `${i.file} ${i.version} ${i.sha256}`),
            '',
            `The whole evidence: \`barrow report ${found} --format html --output report.html\``,
            '',
          ].join('\n');
        await putOut(say, o.output, text);
      }),
    );
};
