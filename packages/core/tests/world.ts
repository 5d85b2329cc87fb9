import { expect } from 'vitest';
import {
  apply,
  check,
  decide,
  initialState,
  keepState,
  Ledger,
  restoreState,
  rolloutEventSchema,
  tooLate,
  windowOver,
  type Command,
  type Plan,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import {
  freeFrom,
  isInWindow,
  isSoaking,
  needOf,
  allHoldings,
  clash,
  decideByFullScan,
  harm,
  holdings,
  isDoubtful,
  stepAt,
  namedAt,
} from './full-scan.js';

/** A world in which anything may happen in any order; it watches the rules while it plays. */
export class World {
  state: RolloutState;
  now = 1_000_000;
  readonly journal: RolloutEvent[] = [];
  /** Activations begun in the present attempt of a leg, without a device's word that it was not done. */
  readonly #activations = new Map<string, number>();
  readonly #past = new Set<string>();
  /** Those that are not as they were before their leg, by whichever attempt. */
  readonly #changed = new Set<string>();
  /** Who has something set aside, and who is armed until when. */
  readonly #aside = new Set<string>();
  readonly #hours = new Map<string, number>();
  /** Who took which key, and when; a restart forgets nothing of it. */
  /** What the next soak shows; null: nothing that got worse. */
  worse: string | null = null;
  readonly entered: { key: string; at: number }[] = [];

  /** Of which rollouts the ledger knows; harm is looked for over all of them. */
  readonly together: World[];

  constructor(
    readonly plan: Plan,
    readonly ledger = new Ledger(),
    together: World[] = [],
    doneBy?: number,
  ) {
    this.together = together;
    together.push(this);
    this.state = initialState(plan);
    this.happen({ kind: 'rollout-started', at: this.now, by: 'somebody', ...(doneBy === undefined ? {} : { doneBy: this.now + doneBy }) });
  }

  happen(event: RolloutEvent): void {
    const before = this.state.phase;
    if (event.kind === 'step-begun') {
      const run = this.state.runs[this.state.indexOf.get(event.run)!]!;
      if (before === 'held') expect(run.pastReturn || run.ending !== null, `${event.step} was begun while held`).toBe(true);
      if (event.step === 'activate') {
        const leg = `${event.run}/${event.leg ?? 0}`;
        const begun = (this.#activations.get(leg) ?? 0) + 1;
        expect(begun, 'activate was issued twice').toBe(1);
        this.#activations.set(leg, begun);
        this.#past.add(event.run);
        this.#changed.add(event.run);
      }
    }
    if (event.kind === 'reconciled' && event.step === 'activate' && event.truth === 'not-done')
      this.#activations.delete(`${event.run}/${event.leg ?? 0}`);
    if (event.kind === 'run-retried') {
      // What was verified is not done again.
      const { legs } = this.state.runs[this.state.indexOf.get(event.run)!]!;
      for (const key of this.#activations.keys())
        if (key.startsWith(`${event.run}/`) && Number(key.split('/')[1]) >= legs) this.#activations.delete(key);
      this.#past.delete(event.run);
    }
    // A person has it tried anew, with all that the rungs do.
    if (event.kind === 'take-back-asked') {
      this.#past.add(event.run);
      for (const key of this.#activations.keys())
        if (key.startsWith(`${event.run}/`) && Number(key.split('/')[1]) >= this.#legsOf(event.run)) this.#activations.delete(key);
    }
    if (event.kind === 'run-withdrawn' || event.kind === 'run-skipped')
      expect(this.#past.has(event.run), 'a run past its point of no return was interrupted').toBe(false);
    if (event.kind === 'soak-ended')
      expect(event.at, 'a soak was cut short').toBeGreaterThanOrEqual(
        this.state.waves[event.wave]!.endedAt! + this.plan.waves[event.wave]!.gate.soakMs,
      );
    if (event.kind === 'step-begun' && event.step === 'settle')
      expect(this.state.runs[this.state.indexOf.get(event.run)!]!.legs).toBe(this.#legsOf(event.run));
    if (event.kind === 'gate-passed' && event.wave < this.plan.waves.length - 1) {
      const { gate } = this.plan.waves[event.wave]!;
      const wave = this.state.waves[event.wave]!;
      expect(event.at, 'a gate was passed before its soak').toBeGreaterThanOrEqual(wave.endedAt! + gate.soakMs);
      if (gate.watch) expect(wave.judged, 'a gate was passed before its soak was judged').toBe(true);
      expect(wave.worse !== null && !wave.worseAccepted, 'a gate was passed although what soaked got worse').toBe(false);
      if (gate.approval) expect(wave.approvedBy, 'a gate was passed without its word').not.toBeNull();
      expect(
        wave.ended.failed + wave.ended.recovered + wave.broken - wave.forgiven,
        'a gate was passed over its failure limit',
      ).toBeLessThan(gate.failureLimit);
    }
    this.journal.push(rolloutEventSchema.parse(event));
    const legOf = (id: string): number => namedAt(this.state, this.state.indexOf.get(id)!).leg ?? 0;
    const leg = 'run' in event && event.run !== undefined ? legOf(event.run) : 0;
    if (event.kind === 'service-started') {
      // A restart takes up what was kept, and that is all there was.
      const kept = restoreState(this.plan, JSON.parse(JSON.stringify(keepState(this.state))));
      expect(kept).toEqual(this.state);
      this.state = kept!;
    }
    const looked = event.kind === 'step-done' && event.step === 'preflight';
    this.state = apply(this.state, event);
    // A leg that is behind it is one after which it may rest.
    if ('run' in event && event.run !== undefined) {
      const isThere = this.state.runs[this.state.indexOf.get(event.run)!]!.legs === this.#legsOf(event.run);
      if (legOf(event.run) > leg || isThere) this.#past.delete(event.run);
      const { outcome } = this.state.runs[this.state.indexOf.get(event.run)!]!;
      if (legOf(event.run) > leg || isThere || looked || outcome === 'recovered') this.#changed.delete(event.run);
      if (this.#changed.has(event.run)) expect(outcome, 'one that was changed is said not to have been begun').not.toBe('not-begun');
    }
    this.#sides(event);
    this.ledger.follow(this.state, event);
    const states = this.together.map((w) => w.state);
    expect(harm(states)).toBeNull();
    if (event.kind !== 'stretch-entered') return;
    const entered = this.state.indexOf.get(event.run)!;
    // What mends is not kept from it by a window that has closed meanwhile.
    if (this.state.runs[entered]!.rung === null)
      expect(
        isInWindow(this.plan, entered, event.stretch, this.now, this.state.doneBy),
        `${event.run} goes down outside of its window`,
      ).toBe(true);
    if (this.state.runs[entered]!.rung === null)
      expect(needOf(this.state, entered), `${event.run} was begun before what it needs`).toBeNull();
    const earlier = this.together.flatMap((w) => w.entered);
    if (this.state.runs[entered]!.rung === null)
      expect(
        freeFrom(this.plan, entered, event.stretch, earlier, states),
        `${event.run} goes down too soon after another`,
      ).toBeLessThanOrEqual(this.now);
    for (const { key } of event.claims) this.entered.push({ key, at: event.at });
    const all = allHoldings(states);
    const mine = all.find(({ who }) => who === `${this.plan.id}/${event.run}`)!;
    expect(
      clash(
        mine.holds,
        all.filter((a) => a !== mine),
        states,
      ),
      `${event.run} entered`,
    ).toBeNull();
  }

  /** What was set aside is put back, or was tried to be, before its run has ended; who is armed is left alone until its hour. */
  #sides(event: RolloutEvent): void {
    if (!('run' in event) || event.run === undefined) return;
    const { phase, ending } = this.state.runs[this.state.indexOf.get(event.run)!]!;
    if (event.kind === 'step-begun' && event.step === 'set-aside') this.#aside.add(event.run);
    if (event.kind === 'step-done' && event.step === 'put-back') this.#aside.delete(event.run);
    if (event.kind === 'step-failed' && event.step === 'put-back' && ending === null) this.#aside.delete(event.run);
    if (phase === 'ended') expect(this.#aside.has(event.run), `${event.run} ended with something set aside`).toBe(false);
    if (phase === 'armed') {
      const index = this.state.indexOf.get(event.run)!;
      const { hours } = this.plan.windows![this.plan.runs[index]!.window!]!;
      // Whatever made it restart, it is its hour now.
      if (event.kind === 'taken-early') return void this.#hours.set(event.run, this.now);
      // Where no hour comes any more, it is waited for no longer.
      this.#hours.set(event.run, hours!.find((hour) => hour >= this.now) ?? this.now);
      expect(this.state.runs[index]!.dueAt).toBe(this.#hours.get(event.run));
    } else if (this.#hours.has(event.run)) {
      expect(event.kind, `${event.run} was armed`).toBe('step-begun');
      expect(this.now, `${event.run} was not left until its hour`).toBeGreaterThanOrEqual(this.#hours.get(event.run)!);
      this.#hours.delete(event.run);
    }
  }

  #legsOf(id: string): number {
    return this.plan.passages[this.plan.runs[this.state.indexOf.get(id)!]!.passage]!.legs.length;
  }

  decide(): Command[] {
    return decide(this.state, this.ledger, this.now);
  }

  /** Decides and carries out until nothing more may be begun, comparing with the full scan each time. */
  settle(): void {
    for (let round = 0; round < 10_000; round++) {
      const commands = this.decide();
      const enters = commands.filter((c) => c.kind === 'enter-stretch');
      const order = (list: Command[]) => list.map((c) => JSON.stringify(c)).sort();
      expect(order(commands.filter((c) => c.kind !== 'enter-stretch' && !this.#isOfWindow(c)))).toEqual(
        order(decideByFullScan(this.state, this.now).filter((c) => !this.#isOfWindow(c))),
      );
      this.#nothingIdle(enters.map((c) => c.run));
      const acts = commands.filter((c) => c.kind !== 'wake');
      if (acts.length === 0) return;
      for (const command of acts) this.#carryOut(command);
    }
    throw new Error('it never settled');
  }

  /** When windows open, the full scan does not say. */
  #isOfWindow(command: Command): boolean {
    if (command.kind === 'wake' && this.plan.spacing && ['open', 'proving'].includes(this.state.waves[this.state.wave]?.phase ?? ''))
      return true;
    if (command.kind === 'hold' && command.reason === tooLate) return true;
    if (!this.plan.windows || this.state.waves[this.state.wave]?.phase === 'soaking') return false;
    return command.kind === 'wake' || (command.kind === 'hold' && command.reason === windowOver);
  }

  /** A run that could enter beside all that is held is let in: claims hold back no more than they must. */
  #nothingIdle(entering: readonly string[]): void {
    this.#brokenFirst(entering);
    if (
      this.state.phase !== 'running' ||
      this.state.draining ||
      !['open', 'proving'].includes(this.state.waves[this.state.wave]?.phase ?? '')
    )
      return;
    if (this.decide().some((c) => c.kind === 'hold')) return;
    const states = this.together.map((w) => w.state);
    const entered = this.together.flatMap((w) => w.entered);
    const indexes = entering.map((id) => this.state.indexOf.get(id)!);
    const held = [
      ...allHoldings(states),
      ...indexes.map((i) => ({ who: this.plan.runs[i]!.id, holds: holdings(this.plan, i, this.state.runs[i]!.stretch) })),
    ];
    this.plan.runs.forEach((run, i) => {
      const { phase, wave, stretch, wish } = this.state.runs[i]!;
      if ((phase !== 'waiting' && phase !== 'parked') || wave !== this.state.wave || entering.includes(run.id) || wish) return;
      if (needOf(this.state, i) !== null) return;
      const isOpen = this.state.waves[wave]!.phase === 'open';
      // After the soak, and not before it; who has not begun waits for the next chance.
      if (phase === 'waiting' ? !isOpen : isSoaking(this.state, i) && isOpen) return;
      if (!isInWindow(this.plan, i, stretch, this.now, this.state.doneBy)) return;
      if (freeFrom(this.plan, i, stretch, [...entered, ...this.#aboutTo(indexes)], states) > this.now) return;
      expect(clash(holdings(this.plan, i, stretch), held, states), `${run.id} waits without need`).not.toBeNull();
    });
  }

  #aboutTo(indexes: readonly number[]): { key: string; at: number }[] {
    return indexes.flatMap((i) => holdings(this.plan, i, this.state.runs[i]!.stretch).map(([key]) => ({ key, at: this.now })));
  }

  /** Who is broken and could be taken back beside all that is held is, unless a person holds the rollout. */
  #brokenFirst(entering: readonly string[]): void {
    const { phase, heldBy, draining } = this.state;
    if (draining || !(phase === 'running' || (phase === 'held' && heldBy === 'Barrow'))) return;
    if (this.decide().some((c) => c.kind === 'hold')) return;
    const states = this.together.map((w) => w.state);
    const broken = this.runsIn('broken');
    for (const { id, index } of broken) {
      const others = [
        ...allHoldings(states).filter(({ who }) => who !== `${this.plan.id}/${id}`),
        ...broken
          .filter((b) => b.id !== id && entering.includes(b.id))
          .map((b) => ({ who: b.id, holds: holdings(this.plan, b.index, this.state.runs[b.index]!.stretch) })),
      ];
      const free = clash(holdings(this.plan, index, this.state.runs[index]!.stretch), others, states) === null;
      if (!entering.includes(id)) expect(free, `${id} is not taken back, and could be`).toBe(false);
    }
  }

  #carryOut(command: Command): void {
    const at = this.now;
    switch (command.kind) {
      case 'enter-stretch': {
        const { run, stretch, attempt, claims } = command;
        return this.happen({ kind: 'stretch-entered', at, run, stretch, attempt, claims: [...claims] });
      }
      case 'begin-step':
        return this.happen({ ...command, kind: 'step-begun', at });
      case 'reconcile':
        return this.happen({ ...command, kind: 'reconcile-begun', at });
      case 'skip-run':
        return this.happen({ kind: 'run-skipped', at, run: command.run, by: command.by, reason: command.reason });
      case 'withdraw-run':
        return this.happen({ kind: 'run-withdrawn', at, run: command.run, reason: command.reason });
      case 'give-up':
        return this.happen({ kind: 'run-given-up', at, run: command.run, reason: command.reason });
      case 'end-needless':
        return this.happen({ ...command, kind: 'run-needless', at });
      case 'miss-run':
        return this.happen({ kind: 'run-missed', at, run: command.run });
      case 'open-wave':
        return this.happen({ kind: 'wave-opened', at, wave: command.wave });
      case 'end-wave':
        return this.happen({ kind: 'wave-ended', at, wave: command.wave });
      case 'judge-soak':
        return this.happen({
          kind: 'soak-judged',
          at,
          wave: command.wave,
          worse: this.worse,
          findings: [],
          looks: 12,
        });
      case 'end-soak':
        return this.happen({ kind: 'soak-ended', at, wave: command.wave });
      case 'pass-gate':
        return this.happen({ kind: 'gate-passed', at, wave: command.wave });
      case 'hold':
        return this.happen({ kind: 'held', at, by: 'Barrow', reason: command.reason });
      case 'resume':
        return this.happen({ kind: 'continued', at, by: 'Barrow' });
      case 'end-rollout':
        return this.happen({ kind: 'rollout-ended', at });
      case 'wake':
        return;
    }
  }

  runsIn(...phases: string[]): { id: string; index: number }[] {
    return this.plan.runs.flatMap((run, index) => (phases.includes(this.state.runs[index]!.phase) ? [{ id: run.id, index }] : []));
  }

  /** One thing that the world does, chosen by two numbers. */
  act(what: number, which: number): void {
    const at = this.now;
    const busy = this.runsIn('busy');
    const asking = this.runsIn('asking');
    const pick = <T>(list: T[]): T => list[which % list.length]!;
    const named = (index: number) => namedAt(this.state, index);
    const { phase } = this.state;
    const gone = (run: string) => ({ kind: 'run-absent', at, run, cause: 'unreachable', detail: 'silent' }) as const;
    const absent = this.runsIn('absent');
    const armed = this.runsIn('armed');
    if (what < 50 && busy.length > 0) {
      const { id, index } = pick(busy);
      const behind = { kind: 'leg-skipped', at, run: id, leg: named(index).leg ?? 0, reason: 'it was further on' } as const;
      const proven = { kind: 'leg-proven', at, run: id, leg: named(index).leg ?? 0, reason: 'compared again' } as const;
      const there = { kind: 'run-skipped', at, run: id, by: 'Barrow', reason: 'there already' } as const;
      if (
        which % 7 === 0 &&
        stepAt(this.state, index) === 'preflight' &&
        check(this.state, there) === null &&
        !this.state.runs[index]!.wish
      )
        this.happen(there);
      else if (
        which % 13 === 0 &&
        stepAt(this.state, index) === 'preflight' &&
        this.state.runs[index]!.attempt > 1 &&
        check(this.state, proven) === null
      )
        this.happen(proven);
      else if (which % 11 === 0 && check(this.state, gone(id)) === null) this.happen(gone(id));
      else if (which % 5 === 0 && stepAt(this.state, index) === 'preflight' && check(this.state, behind) === null) this.happen(behind);
      else this.happen({ kind: 'step-done', at, run: id, ...named(index) });
    } else if (what < 58 && busy.length > 0) {
      const { id, index } = pick(busy);
      const cause = ['unreachable', 'image-damaged', 'never-returned', 'settings-changed'][which % 4]!;
      this.happen({ kind: 'step-failed', at, run: id, ...named(index), cause, detail: 'so it was' });
    } else if (what < 66 && asking.length > 0) {
      const { id, index } = pick(asking);
      this.happen({ kind: 'reconciled', at, run: id, ...named(index), truth: which % 2 === 0 ? 'done' : 'not-done', detail: 'asked' });
    } else if (what < 67 && armed.length > 0) this.happen({ kind: 'taken-early', at, run: pick(armed).id, detail: 'it restarted' });
    else if (what < 69 && absent.length > 0) this.happen({ kind: 'run-seen', at, run: pick(absent).id, detail: 'it answers' });
    else if (what < 73) this.now += (which % 100) * 1000;
    else if (what < 74) this.worse = which % 2 === 0 ? 'free memory falls' : null;
    else if (what < 78 && phase === 'running') this.happen({ kind: 'held', at, by: 'somebody', reason: 'a word' });
    else if (what < 84 && phase === 'held') this.happen({ kind: 'continued', at, by: 'somebody' });
    else if (what < 87) this.happen({ kind: 'approved', at, by: 'somebody', wave: which % this.plan.waves.length });
    else if (what < 88) {
      const wave = which % this.plan.waves.length;
      const words = [
        { kind: 'wave-held', at, wave, by: 'somebody', reason: 'a word' } as const,
        { kind: 'wave-freed', at, wave, by: 'somebody' } as const,
      ];
      for (const word of words) if (check(this.state, word) === null) return void (this.happen(word), this.settle());
    } else if (what < 91) this.happen({ kind: 'service-started', at });
    else if (what < 93) this.happen({ kind: 'service-stopping', at });
    else if (what < 94 && (phase === 'running' || phase === 'held')) this.happen({ kind: 'stop-asked', at, by: 'somebody' });
    else if (what < 97) {
      const doubtful = this.runsIn('ended').filter(({ index }) => isDoubtful(this.state, index));
      if (which % 3 === 0 && doubtful.length > 0) {
        this.happen({ kind: 'run-released', at, run: pick(doubtful).id, by: 'somebody', reason: 'seen' });
        return this.settle();
      }
      const word = (run: string): RolloutEvent => ({
        kind: 'take-back-asked',
        at,
        run,
        by: 'somebody',
        ...(which % 2 ? { cutsOff: true } : {}),
      });
      const back = this.runsIn('ended').filter(({ id }) => check(this.state, word(id)) === null);
      if (which % 3 === 1 && back.length > 0 && this.state.phase !== 'stopping') {
        this.happen(word(pick(back).id));
        return this.settle();
      }
      const ended = this.runsIn('ended').filter(({ index }) => this.state.runs[index]!.outcome !== 'verified');
      if (ended.length > 0) this.happen({ kind: 'run-retried', at, run: pick(ended).id, by: 'somebody' });
    } else {
      const open = this.runsIn('waiting', 'parked', 'absent', 'ready', 'busy', 'asking').filter(
        ({ index }) => !this.state.runs[index]!.pastReturn && !this.state.runs[index]!.ending,
      );
      if (open.length > 0) this.happen({ kind: 'skip-asked', at, run: pick(open).id, by: 'somebody', reason: 'left out' });
    }
    this.settle();
  }

  /** Lets everything go well from here on. */
  finish(rounds = 5000): void {
    if (this.state.draining) this.happen({ kind: 'service-started', at: this.now });
    for (let round = 0; round < rounds && this.state.phase !== 'ended'; round++) {
      this.settle();
      if (this.state.phase === 'held') this.happen({ kind: 'continued', at: this.now, by: 'somebody' });
      this.plan.waves.forEach((w, wave) => {
        const freed = { kind: 'wave-freed', at: this.now, wave, by: 'somebody' } as const;
        if (check(this.state, freed) === null) this.happen(freed);
        if (w.gate.approval && this.state.waves[wave]!.approvedBy === null)
          this.happen({ kind: 'approved', at: this.now, by: 'somebody', wave });
      });
      for (const { id, index } of this.runsIn('ended'))
        if (isDoubtful(this.state, index)) this.happen({ kind: 'run-released', at: this.now, run: id, by: 'somebody', reason: 'seen' });
      for (const { id, index } of this.runsIn('busy'))
        this.happen({ kind: 'step-done', at: this.now, run: id, ...namedAt(this.state, index) });
      for (const { id, index } of this.runsIn('asking'))
        this.happen({
          kind: 'reconciled',
          at: this.now,
          run: id,
          ...namedAt(this.state, index),
          truth: 'done',
          detail: 'asked',
        });
      // At another time of each hour: no window is only ever met at its end.
      this.now += 3_000_000;
      this.settle();
    }
  }
}
