import { createInterface, type Interface } from 'node:readline';
import { soakWord } from '../soak.js';
import { duration, stepText, type JournalEntry, type Rollout } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { clock, count, makeColours, outcomeMark, type Io, type Say } from '../output.js';

/** Where nothing moves on the screen, how a long step goes on is told this often. */
const tellEvery = 30_000;

const goesOn: ReadonlySet<string> = new Set(['wait', 'console', 'power-cycle']);

/** What happens in a rollout, a line for each thing; in a terminal, how far those are that take long stands beneath. */
export class FollowedLines {
  readonly #c;
  readonly #runOf: ReadonlyMap<string, Rollout['runs'][number]>;
  /** Percent of the step in hand, by run. */
  readonly #underWay = new Map<string, { percent: number; toldAt: number }>();

  constructor(
    private readonly io: Io,
    private readonly view: Rollout,
    private readonly now: () => number = Date.now,
  ) {
    this.#c = makeColours(io);
    this.#runOf = new Map(view.runs.map((r) => [r.id, r]));
  }

  line(at: number, text: string): void {
    const { io } = this;
    io.out(`${io.terminal ? '\r\u001b[K' : ''}${this.#c.dim(clock(new Date(at).toISOString()))}  ${text}\n`);
    this.#beneath();
  }

  progress(run: string, percent: number): void {
    const name = this.#nameOf(run);
    const before = this.#underWay.get(run) ?? { percent, toldAt: this.now() };
    const due = !this.io.terminal && this.now() - before.toldAt >= tellEvery;
    this.#underWay.set(run, { percent, toldAt: due ? this.now() : before.toldAt });
    if (due) this.line(this.now(), `${name.padEnd(16)} ${percent} %`);
    else this.#beneath();
  }

  /** A line for what was written in the journal, where it is worth one. */
  entry(e: JournalEntry['event']): void {
    const { view, io } = this;
    const c = this.#c;
    const run = 'run' in e && e.run ? e.run : null;
    const who = run === null ? '' : this.#nameOf(run).padEnd(16);
    // What is under way has another step from here on, or none.
    if (run !== null) this.#underWay.delete(run);
    switch (e.kind) {
      case 'step-begun': {
        const { n, steps, text } = this.#stepAt(e);
        const isPoint = steps[n]?.pastReturn && !steps[n - 1]?.pastReturn;
        this.line(e.at, `${who} ${n + 1}/${steps.length} ${text}${isPoint ? c.yellow('  (point of no return)') : ''}`);
        break;
      }
      case 'step-done': {
        const { n, steps, brings } = this.#stepAt(e);
        if (n === steps.length - 1 && brings !== null) this.line(e.at, `${who} ${outcomeMark(io, brings)}`);
        break;
      }
      case 'leg-skipped':
        this.line(e.at, `${who} » ${this.#runOf.get(e.run)?.legs[e.leg]?.to ?? ''} is left out: ${e.reason}`);
        break;
      case 'leg-proven': {
        const legs = this.#runOf.get(e.run)?.legs ?? [];
        const mark = e.leg < legs.length - 1 ? `» ${legs[e.leg]!.to}` : outcomeMark(io, 'verified');
        this.line(e.at, `${who} ${mark}: ${e.reason}`);
        break;
      }
      case 'step-failed':
        this.line(e.at, `${who} ${c.red(`✕ ${e.step}: ${e.cause}`)} ${e.detail.split('\n')[0]}`);
        break;
      case 'run-absent':
        this.line(
          e.at,
          e.cause === 'unreachable'
            ? `${who} is not there: ${e.detail.split('\n')[0]}; it goes on as soon as it answers`
            : `${who} is not ready (${e.cause}): ${e.detail.split('\n')[0]}; it is asked again`,
        );
        break;
      case 'person-answered':
        this.line(e.at, `${who} goes on: ${e.by} has answered`);
        break;
      case 'run-seen':
        this.line(e.at, `${who} goes on: ${e.detail}`);
        break;
      case 'taken-early':
        this.line(e.at, `${who} has taken it before its hour: ${e.detail}`);
        break;
      case 'run-missed':
        this.line(e.at, `${who} ${outcomeMark(io, 'not-begun')}: all others have ended, and it was not to be begun with`);
        break;
      case 'run-skipped':
        this.line(e.at, `${who} ${outcomeMark(io, 'skipped')}: ${e.reason}`);
        break;
      case 'take-back-asked':
        this.line(e.at, `${who} is to be taken back, says ${e.by}${e.cutsOff ? '; others may lose their power with it' : ''}`);
        break;
      case 'run-given-up':
        this.line(e.at, `${who} is not taken back: ${e.reason}`);
        break;
      case 'run-released':
        this.line(e.at, `${who} released by ${e.by}: ${e.reason}`);
        break;
      case 'run-withdrawn':
        this.line(e.at, `${who} ${outcomeMark(io, 'withdrawn')}: ${e.reason}`);
        break;
      case 'reconciled':
        this.line(e.at, `${who} asked after a restart of the service: ${e.step} is ${e.truth}, ${e.detail}`);
        break;
      case 'wave-opened':
        this.line(e.at, c.bold(`wave ${e.wave + 1} opened`));
        break;
      case 'wave-ended': {
        const soak = view.waves[e.wave]!.gate.soakMs;
        this.line(e.at, c.bold(`wave ${e.wave + 1} ended${soak > 0 ? `, soaking for ${duration(soak)}` : ''}`));
        break;
      }
      case 'soak-judged':
        this.line(
          e.at,
          e.worse === null
            ? `wave ${e.wave + 1}, ${count(e.looks, 'soak sample')}: ${soakWord(e.findings, e.looks)}`
            : c.red(`wave ${e.wave + 1} got worse in its soak: ${e.worse}`),
        );
        break;
      case 'wave-held':
        this.line(e.at, `wave ${e.wave + 1} is held back by ${e.by}: ${e.reason}`);
        break;
      case 'wave-freed':
        this.line(e.at, `wave ${e.wave + 1} is opened when its turn comes, says ${e.by}`);
        break;
      case 'soak-ended':
        this.line(e.at, c.bold(`wave ${e.wave + 1} has soaked: its devices are looked at again`));
        break;
      case 'gate-passed':
        if (e.wave < view.waves.length - 1) this.line(e.at, c.bold(`gate ${e.wave + 1} passed`));
        break;
      case 'held':
        this.line(e.at, c.red(`HELD by ${e.by}: ${e.reason}`));
        break;
      case 'rollout-ended':
        this.line(e.at, c.bold('rollout ended'));
        break;
      default:
        break;
    }
  }

  #nameOf(run: string): string {
    return this.#runOf.get(run)?.name ?? run;
  }

  /** Where a step stands among those of the legs, or of the rung that it is of, and what the last of these brings. */
  #stepAt(e: { run: string; step: string; leg?: number | undefined }): {
    n: number;
    steps: readonly { readonly step: string; readonly leg: number; readonly pastReturn?: boolean }[];
    text: string;
    brings: 'verified' | 'recovered' | null;
  } {
    const run = this.#runOf.get(e.run);
    const leg = e.leg ?? 0;
    const at = (s: { step: string; leg: number }): boolean => s.step === e.step && s.leg === leg;
    const { steps = [], rungs = [] } = run ? (this.view.passages[run.passage] ?? {}) : {};
    const rung = rungs.find((g) => g.steps.some(at));
    if (rung) {
      // What only has it come back goes on with its way.
      const brings = goesOn.has(rung.means) ? null : 'recovered';
      return { n: rung.steps.findIndex(at), steps: rung.steps, text: `${rung.text}: ${e.step}`, brings };
    }
    return { n: steps.findIndex(at), steps, text: run ? stepText({ ...run, step: e.step, leg, rung: null }) : e.step, brings: 'verified' };
  }

  /** As many as fit into one line of the terminal; how many others there are. */
  #beneath(): void {
    if (!this.io.terminal) return;
    const all = [...this.#underWay].map(([run, { percent }]) => `${this.#nameOf(run)} ${percent} %`);
    let text = '';
    for (const [i, one] of all.entries()) {
      const rest = all.length - i - 1;
      const longer = `${text}${text === '' ? '' : '   '}${one}`;
      const more = rest > 0 ? `   and ${rest} more` : '';
      if (longer.length + more.length >= this.io.width && text !== '') {
        text += `   and ${rest + 1} more`;
        break;
      }
      text = longer;
    }
    this.io.out(`\r\u001b[K${text === '' ? '' : this.#c.dim(text)}`);
  }
}

/**
 * What devices need to be told while somebody watches: it is shown, and the next line that is typed is the answer. Where nobody types,
 * it is said how it can be answered elsewhere.
 */
class Asking {
  #typed: Interface | null = null;
  #answers: AsyncIterator<string> | null = null;
  /** What was asked last, by run. */
  readonly #asked = new Map<string, string>();
  #turn: Promise<void> = Promise.resolve();

  constructor(
    private readonly io: Io,
    private readonly barrow: BarrowClient,
    private readonly id: string,
    private readonly lines: FollowedLines,
  ) {}

  /** Looks whether any run asks for something that it did not ask for before. */
  look(view: Rollout): void {
    for (const run of view.runs) {
      if (!run.asksToTell || run.asks === null) this.#asked.delete(run.id);
      else if (this.#asked.get(run.id) !== run.asks) {
        this.#asked.set(run.id, run.asks);
        this.#turn = this.#turn.then(() => this.#ask(run));
      }
    }
  }

  end(): void {
    this.#typed?.close();
  }

  async #ask({ id, name, asks }: Rollout['runs'][number]): Promise<void> {
    const { io } = this;
    this.lines.line(Date.now(), `${name.padEnd(16)} asks: ${asks ?? ''}`);
    this.#typed ??= createInterface({ input: io.input ?? process.stdin, crlfDelay: Infinity });
    this.#answers ??= this.#typed[Symbol.asyncIterator]();
    for (;;) {
      const { value, done } = await this.#answers.next();
      const answer = done ? null : String(value).trim();
      if (answer === null) return io.out(`Answer it with \`barrow rollout answer ${this.id} ${name} ANSWER\`.\n`);
      if (answer === '') continue;
      const why = await this.barrow.sayRun(this.id, id, 'answer', { answer }).then(
        () => null,
        (error: unknown) => (error instanceof Error ? error.message : String(error)),
      );
      if (why === null) return;
      io.out(`${why}\n`);
      // Somebody has answered it elsewhere meanwhile.
      if (!this.#asked.has(id)) return;
    }
  }
}

/**
 * Watches a rollout until it ends or is held; whoever watches may answer what is asked meanwhile.
 *
 * @param from the journal entry to begin after; without it, after what is known now
 */
export async function follow(say: Say, barrow: BarrowClient, id: string, from?: number): Promise<Rollout> {
  const stop = new AbortController();
  let view = await barrow.rollout(id);
  const lines = say.json ? null : new FollowedLines(say.io, view);
  const asking = lines && new Asking(say.io, barrow, id, lines);
  let lost = false;
  const onState = (connected: boolean): void => {
    if (connected === !lost || stop.signal.aborted) return;
    lost = !connected;
    lines?.line(Date.now(), connected ? 'the service answers again' : 'the connection to the service was lost; trying again');
  };
  if (from === undefined && (isAtRest(view) || view.phase === 'planned')) return view;
  asking?.look(view);
  for await (const event of barrow.events({ after: from ?? view.journal, signal: stop.signal, onState })) {
    // Who asks something is told by its rollout; what changes with every step is in the journal.
    if (event.kind === 'changed' && event.what === 'rollouts' && event.ids?.includes(id)) asking?.look(await barrow.rollout(id));
    if (event.kind === 'progress' && event.rollout === id) lines?.progress(event.run, event.percent);
    if (event.kind !== 'journal' || event.entry.rollout !== id) continue;
    const e = event.entry.event;
    lines?.entry(e);
    if (e.kind === 'rollout-ended' || e.kind === 'held' || e.kind === 'step-done' || e.kind === 'leg-proven' || e.kind === 'step-failed') {
      if (e.kind !== 'rollout-ended' && view.phase !== 'held' && e.kind !== 'held') continue;
      view = await barrow.rollout(id);
      if (isAtRest(view)) stop.abort();
    }
  }
  asking?.end();
  return barrow.rollout(id);
}
