import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  apply,
  whyWaiting,
  check,
  checkWord,
  decide,
  fold,
  ImpossibleEvent,
  initialState,
  Ledger,
  rolloutEventSchema,
  firstSteps,
  type Command,
  type Plan,
  type RolloutEvent,
  type RolloutState,
} from '@barrow/core';
import { needOf, allHoldings, clash, decideByFullScan, harm, holdings, isDoubtful, stepAt, namedAt } from './full-scan.js';
import { passage, planOf } from './plans.js';

/** A world in which anything may happen in any order; it watches the rules while it plays. */
class World {
  state: RolloutState;
  now = 1_000_000;
  readonly journal: RolloutEvent[] = [];
  /** Activations begun in the present attempt of a leg, without a device's word that it was not done. */
  readonly #activations = new Map<string, number>();
  readonly #past = new Set<string>();

  /** Of which rollouts the ledger knows; harm is looked for over all of them. */
  readonly together: World[];

  constructor(
    readonly plan: Plan,
    readonly ledger = new Ledger(),
    together: World[] = [],
  ) {
    this.together = together;
    together.push(this);
    this.state = initialState(plan);
    this.happen({ kind: 'rollout-started', at: this.now, by: 'somebody' });
  }

  happen(event: RolloutEvent): void {
    const before = this.state.phase;
    if (event.kind === 'step-begun') {
      const run = this.state.runs[this.state.indexOf.get(event.run)!]!;
      if (before === 'held') expect(run.pastReturn, `${event.step} was begun while held`).toBe(true);
      if (event.step === 'activate') {
        const leg = `${event.run}/${event.leg ?? 0}`;
        const begun = (this.#activations.get(leg) ?? 0) + 1;
        expect(begun, 'activate was issued twice').toBe(1);
        this.#activations.set(leg, begun);
        this.#past.add(event.run);
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
    if (event.kind === 'run-withdrawn' || event.kind === 'run-skipped')
      expect(this.#past.has(event.run), 'a run past its point of no return was interrupted').toBe(false);
    if (event.kind === 'gate-passed' && event.wave < this.plan.waves.length - 1) {
      const { gate } = this.plan.waves[event.wave]!;
      const wave = this.state.waves[event.wave]!;
      expect(event.at, 'a gate was passed before its soak').toBeGreaterThanOrEqual(wave.endedAt! + gate.soakMs);
      if (gate.approval) expect(wave.approvedBy, 'a gate was passed without its word').not.toBeNull();
      expect(wave.ended.failed - wave.forgiven, 'a gate was passed over its failure limit').toBeLessThan(gate.failureLimit);
    }
    this.journal.push(rolloutEventSchema.parse(event));
    const legOf = (id: string): number => namedAt(this.state, this.state.indexOf.get(id)!).leg ?? 0;
    const leg = 'run' in event && event.run !== undefined ? legOf(event.run) : 0;
    this.state = apply(this.state, event);
    // A leg that is behind it is one after which it may rest.
    if ('run' in event && event.run !== undefined && legOf(event.run) > leg) this.#past.delete(event.run);
    this.ledger.follow(this.state, event);
    const states = this.together.map((w) => w.state);
    expect(harm(states)).toBeNull();
    if (event.kind !== 'stretch-entered') return;
    expect(needOf(this.state, this.state.indexOf.get(event.run)!), `${event.run} was begun before what it needs`).toBeNull();
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

  decide(): Command[] {
    return decide(this.state, this.ledger, this.now);
  }

  /** Decides and carries out until nothing more may be begun, comparing with the full scan each time. */
  settle(): void {
    for (let round = 0; round < 10_000; round++) {
      const commands = this.decide();
      const enters = commands.filter((c) => c.kind === 'enter-stretch');
      const order = (list: Command[]) => list.map((c) => JSON.stringify(c)).sort();
      expect(order(commands.filter((c) => c.kind !== 'enter-stretch'))).toEqual(order(decideByFullScan(this.state, this.now)));
      this.#nothingIdle(enters.map((c) => c.run));
      const acts = commands.filter((c) => c.kind !== 'wake');
      if (acts.length === 0) return;
      for (const command of acts) this.#carryOut(command);
    }
    throw new Error('it never settled');
  }

  /** A run that could enter beside all that is held is let in: claims hold back no more than they must. */
  #nothingIdle(entering: readonly string[]): void {
    if (this.state.phase !== 'running' || this.state.draining || this.state.waves[this.state.wave]?.phase !== 'open') return;
    if (this.decide().some((c) => c.kind === 'hold')) return;
    const states = this.together.map((w) => w.state);
    const indexes = entering.map((id) => this.state.indexOf.get(id)!);
    const held = [
      ...allHoldings(states),
      ...indexes.map((i) => ({ who: this.plan.runs[i]!.id, holds: holdings(this.plan, i, this.state.runs[i]!.stretch) })),
    ];
    this.plan.runs.forEach((run, i) => {
      const { phase, wave, stretch, wish } = this.state.runs[i]!;
      if ((phase !== 'waiting' && phase !== 'parked') || wave !== this.state.wave || entering.includes(run.id) || wish) return;
      if (needOf(this.state, i) !== null) return;
      expect(clash(holdings(this.plan, i, stretch), held, states), `${run.id} waits without need`).not.toBeNull();
    });
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
      case 'end-needless':
        return this.happen({ ...command, kind: 'run-needless', at });
      case 'open-wave':
        return this.happen({ kind: 'wave-opened', at, wave: command.wave });
      case 'end-wave':
        return this.happen({ kind: 'wave-ended', at, wave: command.wave });
      case 'pass-gate':
        return this.happen({ kind: 'gate-passed', at, wave: command.wave });
      case 'hold':
        return this.happen({ kind: 'held', at, by: 'Barrow', reason: command.reason });
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
    if (what < 50 && busy.length > 0) {
      const { id, index } = pick(busy);
      const behind = { kind: 'leg-skipped', at, run: id, leg: named(index).leg ?? 0, reason: 'it was further on' } as const;
      const there = { kind: 'run-skipped', at, run: id, by: 'Barrow', reason: 'there already' } as const;
      if (
        which % 7 === 0 &&
        stepAt(this.state, index) === 'preflight' &&
        check(this.state, there) === null &&
        !this.state.runs[index]!.wish
      )
        this.happen(there);
      else if (which % 5 === 0 && stepAt(this.state, index) === 'preflight' && check(this.state, behind) === null) this.happen(behind);
      else this.happen({ kind: 'step-done', at, run: id, ...named(index) });
    } else if (what < 58 && busy.length > 0) {
      const { id, index } = pick(busy);
      const cause = which % 2 === 0 ? 'unreachable' : 'image-damaged';
      this.happen({ kind: 'step-failed', at, run: id, ...named(index), cause, detail: 'so it was' });
    } else if (what < 66 && asking.length > 0) {
      const { id, index } = pick(asking);
      this.happen({ kind: 'reconciled', at, run: id, ...named(index), truth: which % 2 === 0 ? 'done' : 'not-done', detail: 'asked' });
    } else if (what < 74) this.now += (which % 100) * 1000;
    else if (what < 78 && phase === 'running') this.happen({ kind: 'held', at, by: 'somebody', reason: 'a word' });
    else if (what < 84 && phase === 'held') this.happen({ kind: 'continued', at, by: 'somebody' });
    else if (what < 88) this.happen({ kind: 'approved', at, by: 'somebody', wave: which % this.plan.waves.length });
    else if (what < 91) this.happen({ kind: 'service-started', at });
    else if (what < 93) this.happen({ kind: 'service-stopping', at });
    else if (what < 94 && (phase === 'running' || phase === 'held')) this.happen({ kind: 'stop-asked', at, by: 'somebody' });
    else if (what < 97) {
      const doubtful = this.runsIn('ended').filter(({ index }) => isDoubtful(this.state, index));
      if (which % 3 === 0 && doubtful.length > 0) {
        this.happen({ kind: 'run-released', at, run: pick(doubtful).id, by: 'somebody', reason: 'seen' });
        return this.settle();
      }
      const ended = this.runsIn('ended').filter(({ index }) => this.state.runs[index]!.outcome !== 'verified');
      if (ended.length > 0) this.happen({ kind: 'run-retried', at, run: pick(ended).id, by: 'somebody' });
    } else {
      const open = this.runsIn('waiting', 'parked', 'ready', 'busy', 'asking').filter(({ index }) => !this.state.runs[index]!.pastReturn);
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
      this.now += 3_600_000;
      this.settle();
    }
  }
}

/** Runs of one, two or three images. */
const several = ['4.2.1', '4.3.0', '5.0.0', '5.1.0'];
const legs = [2, 3, 4].map((n) => ({ passage: passage(several.slice(0, n)) }));
const passages = fc.array(fc.constantFrom(...legs), { minLength: 16, maxLength: 16 });
/** Each may need some of those before it, from its first leg or its second on. */
const needs = fc
  .array(fc.array(fc.record({ leg: fc.integer({ min: 0, max: 1 }), back: fc.integer({ min: 1, max: 5 }) }), { maxLength: 2 }), {
    minLength: 16,
    maxLength: 16,
  })
  .map((all) => all.map((list, i) => ({ needs: list.map(({ leg, back }) => ({ leg, device: `d${i + 1 - back}` })) })));

const shapes = fc.record({
  devices: fc.integer({ min: 1, max: 12 }),
  first: fc.integer({ min: 0, max: 3 }),
  atOnce: fc.integer({ min: 1, max: 5 }),
  perSite: fc.integer({ min: 0, max: 2 }),
  gate: fc.record({ soakMs: fc.integer({ min: 0, max: 120_000 }), failureLimit: fc.integer({ min: 1, max: 3 }), approval: fc.boolean() }),
});

/** What hangs on what, at random: nearer numbers more often, over the border of two rollouts too. */
const guards = fc.array(
  fc.record({
    under: fc.uniqueArray(fc.integer({ min: 1, max: 16 }), { maxLength: 4 }).map((list) => list.map((n) => `d${n}`)),
    rings: fc.subarray(['a', 'b']),
    feeds: fc.subarray([
      { device: 'x', of: 2 },
      { device: 'y', of: 3 },
    ]),
  }),
  { minLength: 16, maxLength: 16 },
);

describe('the scheduler, whatever happens in whatever order', () => {
  it('lets nobody go down above who is writing, nor two of a ring, nor the last feed, over two rollouts and many restarts', () => {
    const moves = fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000), fc.boolean()), { maxLength: 160 });
    fc.assert(
      fc.property(shapes, shapes, guards, passages, needs, moves, (one, two, hanging, of, needed, all) => {
        const each = hanging.map((h, i) => ({ ...h, ...of[i]!, ...needed[i]! }));
        const ledger = new Ledger();
        const together: World[] = [];
        const a = new World(planOf({ ...one, devices: Math.min(one.devices, 8), each, id: 'r-a' }), ledger, together);
        const b = new World(
          planOf({ ...two, devices: Math.min(two.devices, 8), each: each.slice(8), id: 'r-b', from: 9 }),
          ledger,
          together,
        );
        for (const [what, which, first] of all) {
          const world = first ? a : b;
          if (world.state.phase !== 'ended' || what >= 94) world.act(what, which);
          // What one lets go, the other may take.
          for (const other of together) other.settle();
        }
        for (let round = 0; round < 1000 && together.some((w) => w.state.phase !== 'ended'); round++)
          for (const world of together) world.finish(1);
        for (const world of together) {
          expect(world.state.phase).toBe('ended');
          expect(fold(world.plan, world.journal)).toEqual(world.state);
        }
        // Nothing is held any more, and a ledger made anew from what stands there knows the same.
        expect(allHoldings(together.map((w) => w.state))).toEqual([]);
        for (const key of ['ring:a', 'feeds:x', ...each.map((_, i) => `up:d${i + 1}`)]) expect(ledger.holdersOf(key)).toEqual([]);
      }),
      { numRuns: 100 },
    );
  });

  it('keeps every limit, gate and point of no return, agrees with the full scan, and comes to an end', () => {
    fc.assert(
      fc.property(
        shapes,
        passages,
        needs,
        fc.array(fc.tuple(fc.integer({ min: 0, max: 99 }), fc.nat(1000)), { maxLength: 220 }),
        (shape, each, needed, moves) => {
          const world = new World(planOf({ ...shape, each: each.map((e, i) => ({ ...e, ...needed[i]! })) }));
          world.settle();
          for (const [what, which] of moves) if (world.state.phase !== 'ended' || what >= 94) world.act(what, which);
          world.finish();
          expect(world.state.phase).toBe('ended');
          expect(world.runsIn('ended').length).toBe(world.plan.runs.length);
          // After a crash the state is the fold of the journal, and nothing else.
          expect(fold(world.plan, world.journal)).toEqual(world.state);
        },
      ),
      { numRuns: 150 },
    );
  });
});

describe('the scheduler, case by case', () => {
  const started = (shape = {}) => {
    const world = new World(planOf(shape));
    world.settle();
    return world;
  };
  const complete = (world: World, id: string) => {
    for (const step of firstSteps) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
  };

  it('begins the first wave alone and waits out the soak before the rest', () => {
    const world = started();
    const [first] = world.runsIn('busy');
    expect(world.runsIn('busy').length).toBe(1);
    complete(world, first!.id);
    expect(world.decide()).toEqual([{ kind: 'wake', at: world.now + 60_000 }]);
    world.now += 59_999;
    world.settle();
    expect(world.runsIn('busy').length).toBe(0);
    world.now += 1;
    world.settle();
    expect(world.runsIn('busy').length).toBe(2);
  });

  it('holds when the failure limit is reached, and goes on when a person says so', () => {
    const world = started({ first: 0, atOnce: 3 });
    world.happen({
      kind: 'step-failed',
      at: world.now,
      run: world.runsIn('busy')[0]!.id,
      step: 'preflight',
      cause: 'login-refused',
      detail: 'no',
    });
    world.settle();
    expect(world.state.phase).toBe('held');
    expect(world.state.heldBecause).toMatch(/1 failed in wave 1/);
    world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
    world.settle();
    expect(world.state.phase).toBe('running');
    expect(world.runsIn('busy').length).toBe(3);
  });

  it('does not hold when nothing is left that could come to harm: it ends, and can be retried', () => {
    const world = started({ first: 0, devices: 1 });
    world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'preflight', cause: 'login-refused', detail: 'no' });
    world.settle();
    expect(world.state.phase).toBe('ended');
    world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
    world.settle();
    expect(world.state.phase).toBe('running');
    expect(world.runsIn('busy').length).toBe(1);
  });

  it('counts an absent device as not begun, and does not let a first wave pass that verified nothing', () => {
    const world = started();
    world.happen({
      kind: 'step-failed',
      at: world.now,
      run: world.runsIn('busy')[0]!.id,
      step: 'preflight',
      cause: 'unreachable',
      detail: 'silent',
    });
    world.settle();
    expect(world.state.runs[0]!.outcome).toBe('not-begun');
    expect(world.state.waves[0]!.ended.failed).toBe(0);
    expect(world.state.phase).toBe('held');
    expect(world.state.heldBecause).toMatch(/proves nothing/);
  });

  it('lets a run past its point of no return go on while held and while stopping', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    const { id } = world.runsIn('busy')[0]!;
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate'))) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
    world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: id, step: 'activate' });
    world.settle();
    expect(world.decide()).toEqual([]);
    expect(world.state.runs[0]!.phase).toBe('busy');
    expect(world.state.runs[1]!.outcome).toBe('withdrawn');
    for (const step of firstSteps.slice(firstSteps.indexOf('confirm-next-boot'))) {
      world.happen({ kind: 'step-done', at: world.now, run: id, step });
      world.settle();
    }
    expect(world.state.runs[0]!.outcome).toBe('verified');
    expect(world.state.phase).toBe('ended');
  });

  it('asks the device after a crash in activate or reboot, and begins everything else again', () => {
    for (const step of firstSteps) {
      const world = started({ first: 0, atOnce: 1, devices: 1 });
      for (const before of firstSteps.slice(0, firstSteps.indexOf(step))) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: before });
        world.settle();
      }
      world.happen({ kind: 'service-started', at: world.now });
      const [command] = world.decide();
      expect(command?.kind, step).toBe(step === 'activate' || step === 'reboot' ? 'reconcile' : 'begin-step');
    }
  });

  it('finishes what must not be left half-done before the service stops, and no more', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate') + 1)) {
      world.happen({ kind: 'step-done', at: world.now, run: 'd1', step });
      if (step !== 'activate') world.settle();
    }
    world.happen({ kind: 'service-stopping', at: world.now });
    const next = () => world.decide().map((c) => ('step' in c ? c.step : c.kind));
    expect(next()).toEqual(['confirm-next-boot']);
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: 'confirm-next-boot' });
    expect(next()).toEqual(['reboot']);
    world.settle();
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: 'reboot' });
    expect(next()).toEqual([]);
  });

  it('takes no word that cannot be obeyed, and says why in words of the trade', () => {
    const world = started({ devices: 3 });
    const busy = world.runsIn('busy')[0]!.id;
    const [free] = world.runsIn('waiting').map((r) => r.id);
    const nameOf = (id: string) => world.plan.runs.find((r) => r.id === id)!.name;
    const word = (event: RolloutEvent) => checkWord(world.state, event);
    expect(word({ kind: 'skip-asked', at: 1, run: busy, by: 'x', reason: 'r' })).toBeNull();
    expect(word({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' })).toBeNull();
    expect(word({ kind: 'run-retried', at: 1, run: free!, by: 'x' })).toBe(`${nameOf(free!)} is waiting for its turn`);
    expect(word({ kind: 'approved', at: 1, by: 'x', wave: 6 })).toBe('there are 2 waves, and none with the number 7');
    expect(word({ kind: 'continued', at: 1, by: 'x' })).toBe('the rollout is running');
    expect(word({ kind: 'run-skipped', at: 1, run: 'nobody', by: 'x', reason: 'r' })).toBe('there is no device nobody in this rollout');
    world.happen({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' });
    world.happen({ kind: 'stop-asked', at: 1, by: 'x' });
    expect(word({ kind: 'run-retried', at: 1, run: free!, by: 'x' })).toBe('the rollout is being stopped: retry when it has ended');
    expect(word({ kind: 'run-skipped', at: 1, run: free!, by: 'x', reason: 'r' })).toBe(`${nameOf(free!)} has ended: skipped`);
  });

  it('leaves out who is in the middle of a step when that has ended, and nobody past the point of no return', () => {
    const world = started({ first: 0, atOnce: 1, devices: 2 });
    const skip = { kind: 'skip-asked', at: 1, run: 'd1', by: 'x', reason: 'r' } as const;
    const id = world.runsIn('busy')[0]!.id;
    world.happen({ ...skip, run: id });
    world.settle();
    expect(world.runsIn('busy').map((r) => r.id)).toEqual([id]);
    expect(checkWord(world.state, { ...skip, run: id })).toMatch(/is to be left out already$/);
    world.happen({ kind: 'step-done', at: 2, run: id, step: 'preflight' });
    world.settle();
    expect(world.state.runs[world.state.indexOf.get(id)!]).toMatchObject({ outcome: 'skipped', detail: 'r', wish: null });
    const other = world.runsIn('busy')[0]!.id;
    for (const step of firstSteps.slice(0, firstSteps.indexOf('activate'))) {
      world.happen({ kind: 'step-done', at: 2, run: other, step });
      world.settle();
    }
    expect(checkWord(world.state, { ...skip, run: other })).toMatch(/past its point of no return/);
  });

  it('in a journal of before, skips in the middle of a step, whose outcome comes too late to matter', () => {
    const world = started({ first: 0, atOnce: 1, devices: 1 });
    world.happen({ kind: 'run-skipped', at: 1, run: 'd1', by: 'x', reason: 'r' });
    world.happen({ kind: 'step-done', at: 2, run: 'd1', step: 'preflight' });
    world.settle();
    expect(world.state).toMatchObject({ phase: 'ended', runs: [{ outcome: 'skipped' }] });
  });

  it('leaves the state as it was when it refuses', () => {
    const world = started();
    const before = structuredClone(world.state);
    expect(() => apply(world.state, { kind: 'step-done', at: 1, run: 'd1', step: 'reboot' })).toThrow(ImpossibleEvent);
    expect(world.state).toEqual(before);
  });

  it('refuses what cannot have happened', () => {
    const world = started();
    const refused = (event: RolloutEvent) => expect(() => apply(structuredClone(world.state), event)).toThrow(ImpossibleEvent);
    refused({ kind: 'rollout-started', at: 1, by: 'x' });
    refused({ kind: 'step-done', at: 1, run: 'd1', step: 'reboot' });
    refused({ kind: 'step-begun', at: 1, run: 'nobody', step: 'preflight', attempt: 1 });
    refused({ kind: 'gate-passed', at: 1, wave: 0 });
    refused({ kind: 'wave-opened', at: 1, wave: 1 });
    refused({ kind: 'rollout-ended', at: 1 });
  });

  describe('with several images on the way', () => {
    const twoLegs = { devices: 1, first: 0, each: [{ passage: passage(['4.2.1', '4.3.0', '5.0.0']) }] };
    const done = (world: World, steps: number) => {
      for (let n = 0; n < steps; n++) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd1', ...namedAt(world.state, 0) });
        world.settle();
      }
    };

    it('takes each in its turn, names its leg, and is verified after the last', () => {
      const world = started(twoLegs);
      done(world, 9);
      expect(world.state.runs[0]).toMatchObject({ phase: 'busy', legs: 1, pastReturn: false, outcome: null });
      expect(world.journal.at(-1)).toMatchObject({ kind: 'step-begun', step: 'preflight', leg: 1 });
      expect(check(world.state, { kind: 'step-done', at: 0, run: 'd1', step: 'preflight' })).toMatch(
        /preflight of leg 2, not at preflight of leg 1/,
      );
      done(world, 9);
      expect(world.state.runs[0]).toMatchObject({ phase: 'ended', outcome: 'verified' });
    });

    it('may be stopped between two of them, and says how far it came', () => {
      const world = started(twoLegs);
      done(world, 8);
      world.happen({ kind: 'stop-asked', at: world.now, by: 'somebody' });
      world.settle();
      expect(world.state.runs[0]!.phase).toBe('busy');
      done(world, 1);
      expect(world.state.runs[0]).toMatchObject({ outcome: 'withdrawn', detail: 'stopped before preflight; it was brought to 4.3.0' });
    });

    it('counts as failed, never as not begun, when its second image cannot be begun with', () => {
      const world = started(twoLegs);
      const fail = { kind: 'step-failed', run: 'd1', step: 'preflight', cause: 'unreachable', detail: 'silent' } as const;
      done(world, 9);
      world.happen({ ...fail, at: world.now, leg: 1 });
      expect(world.state.runs[0]).toMatchObject({ outcome: 'failed', legs: 1 });
      const other = started(twoLegs);
      other.happen({ ...fail, at: other.now });
      expect(other.state.runs[0]).toMatchObject({ outcome: 'not-begun', legs: 0 });
    });

    it('is retried from the first that was not verified', () => {
      const world = started(twoLegs);
      done(world, 11);
      world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'transfer', leg: 1, cause: 'never-asked', detail: 'silent' });
      world.settle();
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      if (world.state.phase === 'held') world.happen({ kind: 'continued', at: world.now, by: 'somebody' });
      world.settle();
      expect(world.journal.at(-1)).toMatchObject({ kind: 'step-begun', step: 'preflight', leg: 1, attempt: 2 });
    });

    it('goes past what is behind it, but not past its last, nor when something was changed', () => {
      const world = started(twoLegs);
      world.happen({ kind: 'leg-skipped', at: world.now, run: 'd1', leg: 0, reason: 'it runs 4.3.0 already' });
      expect(world.state.runs[0]).toMatchObject({ phase: 'parked', legs: 1, claims: null });
      world.settle();
      expect(check(world.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 1, reason: 'so' })).toBe('there is no leg after it');
      expect(check(world.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 0, reason: 'so' })).toBe('that is not leg 1');
      const changed = started(twoLegs);
      done(changed, 5);
      expect(check(changed.state, { kind: 'leg-skipped', at: 0, run: 'd1', leg: 0, reason: 'so' })).toMatch(/past its point of no return/);
    });
  });

  describe('when one device needs another', () => {
    // d2 needs d1, d3 needs d2.
    const chain = {
      devices: 3,
      first: 0,
      atOnce: 3,
      gate: { soakMs: 0, failureLimit: 9, approval: false },
      each: [{ site: 'a' }, { site: 'a', needs: [{ leg: 0, device: 'd1' }] }, { site: 'a', needs: [{ leg: 0, device: 'd2' }] }],
    };
    const outcomes = (world: World) => world.state.runs.map((r) => r.outcome);
    const failFirst = (world: World) => {
      world.happen({ kind: 'step-failed', at: world.now, run: 'd1', step: 'preflight', cause: 'image-damaged', detail: 'so it was' });
      world.settle();
    };
    const why = (world: World, i: number) => whyWaiting(world.state, i, world.ledger, (h) => h.run)?.text;

    it('begins it only after the other was verified, and says for whom it waits', () => {
      const world = started(chain);
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d1']);
      expect(why(world, 1)).toBe('waits for sw-1, which has to be done first');
      complete(world, 'd1');
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d2']);
      complete(world, 'd2');
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d3']);
    });

    it('does not begin it when the other failed, nor what needs that, and begins them again with its retry', () => {
      const world = started(chain);
      failFirst(world);
      expect(outcomes(world)).toEqual(['failed', 'not-begun', 'not-begun']);
      expect(world.state.runs[1]).toMatchObject({ cause: 'needed-run', detail: 'sw-1 has to be done first, and has ended failed' });
      expect(checkWord(world.state, { kind: 'run-retried', at: 0, run: 'd2', by: 'somebody' })).toMatch(/needs sw-1: retry that one/);
      world.happen({ kind: 'run-retried', at: world.now, run: 'd1', by: 'somebody' });
      world.settle();
      expect(outcomes(world)).toEqual([null, null, null]);
      for (const id of ['d1', 'd2', 'd3']) complete(world, id);
      expect(outcomes(world)).toEqual(['verified', 'verified', 'verified']);
    });

    it('takes it for done when it was there already, and not when a person left it out', () => {
      const there = started(chain);
      there.happen({ kind: 'run-skipped', at: there.now, run: 'd1', by: 'Barrow', reason: 'there already' });
      there.settle();
      expect(there.runsIn('busy').map((r) => r.id)).toEqual(['d2']);
      const left = started(chain);
      left.happen({ kind: 'skip-asked', at: left.now, run: 'd1', by: 'somebody', reason: 'not today' });
      left.happen({ kind: 'step-done', at: left.now, run: 'd1', step: 'preflight' });
      left.settle();
      expect(outcomes(left)).toEqual(['skipped', 'not-begun', 'not-begun']);
    });

    it('lets it take its first image before, where only the second needs the other', () => {
      const two = passage(['4.2.1', '4.3.0', '5.0.0']);
      const world = started({
        ...chain,
        devices: 2,
        each: [{ site: 'a' }, { site: 'a', passage: two, needs: [{ leg: 1, device: 'd1' }] }],
      });
      expect(world.runsIn('busy').map((r) => r.id)).toEqual(['d1', 'd2']);
      for (let n = 0; n < 9; n++) {
        world.happen({ kind: 'step-done', at: world.now, run: 'd2', ...namedAt(world.state, 1) });
        world.settle();
      }
      expect(world.state.runs[1]).toMatchObject({ phase: 'parked', legs: 1 });
      failFirst(world);
      expect(world.state.runs[1]).toMatchObject({ outcome: 'failed', cause: 'needed-run' });
    });

    it('plans what is needed no later than who needs it', () => {
      const made = planOf({ devices: 3, first: 1, each: [{ site: 'a', needs: [{ leg: 0, device: 'd3' }] }] });
      expect(made.runs.filter((r) => r.wave === 0).map((r) => r.id)).toEqual(['d1', 'd3']);
      expect(made.runs.find((r) => r.id === 'd1')!.needs).toEqual([{ leg: 0, run: 'd3' }]);
    });

    it('keeps the storage of what it is handled through for one at a time, and changes as many at once as that allows', () => {
      const made = passage();
      const stretches = made.stretches.map((s) => ({
        ...s,
        ...(s.name === 'transfer' ? { ofParent: { storage: true as const } } : s.name === 'change' ? { ofParent: { most: 2 } } : {}),
      }));
      const via = { site: 'a', via: 'c1', passage: { ...made, stretches } };
      const world = started({ devices: 4, first: 0, atOnce: 4, each: [via, via, via, via] });
      const done = (id: string) => {
        world.happen({ kind: 'step-done', at: world.now, run: id, ...namedAt(world.state, world.state.indexOf.get(id)!) });
        world.settle();
      };
      for (const id of ['d1', 'd2', 'd3', 'd4']) [0, 1].forEach(() => done(id));
      const inStretch = (n: number) => world.runsIn('busy').filter(({ index }) => world.state.runs[index]!.stretch === n);
      expect(inStretch(1)).toHaveLength(1);
      expect(why(world, 3)).toMatch(/which brings an image to the same storage/);
      for (let round = 0; round < 4; round++) [0, 1].forEach(() => done(inStretch(1)[0]!.id));
      expect(inStretch(2)).toHaveLength(2);
      expect(why(world, world.runsIn('parked')[0]!.index)).toBe('waits for its turn: 2 at once on what it is handled through');
    });
  });
});
