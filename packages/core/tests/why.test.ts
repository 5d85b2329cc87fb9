import { describe, expect, it } from 'vitest';
import { initialState, lackText, Ledger, plainTraits, stepMeaning, traitsOf, whyWaiting, type Holder, type StepTraits } from '@barrow/core';
import { done, failed, started, upTo } from './course.js';
import { atItsHour, hours, nineSteps, passage, planOf } from './plans.js';
import { World } from './world.js';

const why = (world: World, index = 0, wall = world.now, now = wall) =>
  whyWaiting(world.state, index, world.ledger, ({ run }) => run, wall, now);
const text = (world: World, index = 0, wall = world.now) => why(world, index, wall)?.text ?? null;
const person = 'somebody';
const gate = { soakMs: 0, failureLimit: 9, approval: false };
const held = (world: World): void => world.happen({ kind: 'held', at: world.now, by: person, reason: '' });
const silent = (world: World, id: string, cause = 'unreachable'): void => {
  world.happen({ kind: 'run-absent', at: world.now, run: id, cause, detail: 'silent' });
  world.settle();
};

describe('why a run waits', () => {
  it('is not told of a plan that was not started, nor of one whose first wave is about to open', () => {
    const plan = planOf({ devices: 3, first: 1 });
    for (const index of [0, 2]) expect(whyWaiting(initialState(plan), index, new Ledger(), () => '')).toBeNull();
    expect(text(new World(plan))).toBeNull();
  });

  it('is not told of who is in hand or has ended, whatever holds the others', () => {
    const world = started({ devices: 5, atOnce: 3, gate });
    const [gone, further, begun] = world.runsIn('busy').map((r) => r.id);
    const [idle] = world.runsIn('waiting').map((r) => r.id);
    upTo(world, 'reboot', further);
    held(world);
    failed(world, 'image-damaged', gone);
    const those = [gone, further, begun, idle].map((id) => world.state.indexOf.get(id!)!);
    const phases = () => those.map((i) => world.state.runs[i]!.phase);
    const said = () => those.map((i) => text(world, i));
    expect(phases()).toEqual(['ended', 'busy', 'busy', 'waiting']);
    const waits = 'waits: the rollout is held';
    expect(said()).toEqual([null, null, null, waits]);
    world.happen({ kind: 'service-started', at: world.now });
    world.happen({ kind: 'reconcile-begun', at: world.now, run: further!, step: 'reboot' });
    expect(phases()).toEqual(['ended', 'asking', 'lost', 'waiting']);
    expect(said()).toEqual([null, null, waits, waits]);
    world.happen({ kind: 'service-stopping', at: world.now });
    const stops = 'waits until the service is started again';
    expect(said()).toEqual([null, null, stops, stops]);
  });

  it('is that a person holds the rollout, but of who is past its point of no return, and of who may be mended', () => {
    const world = started();
    upTo(world, 'reboot');
    held(world);
    world.happen({ kind: 'step-done', at: world.now, run: 'd1', step: 'reboot' });
    expect(world.state.runs[0]).toMatchObject({ phase: 'ready', pastReturn: true });
    expect(text(world)).toBeNull();
    // Its stretch is not entered anew: no window keeps it from what it is in the middle of.
    const windowed = started({ window: { text: '', spans: [[0, 9_000_000]] } });
    upTo(windowed, 'reboot');
    windowed.happen({ kind: 'step-done', at: windowed.now, run: 'd1', step: 'reboot' });
    expect(text(windowed, 0, 9_000_001)).toBeNull();

    const broken = started({ devices: 2, atOnce: 2, wayBack: true, gate, each: [{ passage: passage(undefined, nineSteps(), true) }] });
    upTo(broken, 'checks');
    broken.happen({ kind: 'held', at: broken.now, by: 'Barrow', reason: 'too many' });
    broken.happen({ kind: 'step-failed', at: broken.now, run: 'd1', step: 'checks', cause: 'settings-changed', detail: '' });
    expect(broken.state.runs[0]!.phase).toBe('broken');
    expect(text(broken)).toBeNull();
    broken.happen({ kind: 'continued', at: broken.now, by: person });
    held(broken);
    expect(text(broken)).toBe('waits: the rollout is held');
  });

  it('is that it was not there, or not ready', () => {
    const world = started({ devices: 3, atOnce: 3 });
    silent(world, 'd2');
    silent(world, 'd3', 'device-busy');
    const said = (id: string) => text(world, world.state.indexOf.get(id)!);
    expect(said('d2')).toBe('was not there; it goes on as soon as it answers, while others of the rollout are under way');
    expect(said('d3')).toBe('was not ready; it is asked again from time to time, while others of the rollout are under way');
  });

  it('is the hour of its own at which it takes what it holds', () => {
    const world = started({ each: [{ passage: passage(undefined, atItsHour(nineSteps())), window: hours }] });
    for (let n = 0; n < 9 && world.state.runs[0]!.phase !== 'armed'; n++) done(world);
    expect(why(world)).toEqual({
      text: 'is armed: it takes what it holds by itself, at its own hour',
      until: world.state.runs[0]!.dueAt,
    });
  });

  it('is the wave before: its devices, its soak, or the approval of a person', () => {
    const named = [{ name: 'first', devices: ['d1'] }];
    const asks = { soakMs: 60_000, failureLimit: 1, approval: true };
    const world = started({ devices: 2, named, gate: asks });
    const last = world.state.runs.findIndex((r) => r.wave === 1);
    expect(why(world, last)).toEqual({ text: 'waits for wave 1 (first)', until: null });
    while (world.state.waves[0]!.phase === 'open') done(world);
    expect(world.state.waves[0]!.phase).toBe('soaking');
    expect(why(world, last)).toEqual({ text: 'waits for an approval of wave 1 (first)', until: null });
    world.happen({ kind: 'approved', at: world.now, wave: 0, by: person });
    const until = world.state.waves[0]!.endedAt! + 60_000;
    expect(why(world, last)).toEqual({ text: 'waits for the soak of wave 1 (first)', until });
    const unasked = started({ devices: 2, named, gate: { ...asks, approval: false } });
    while (unasked.state.waves[0]!.phase === 'open') done(unasked);
    expect(why(unasked, last)).toEqual({ text: 'waits for the soak of wave 1 (first)', until });
  });

  it('is the soak of its own wave, when it has reached its target and is looked at again afterwards', () => {
    const proves = { passage: passage(undefined, nineSteps(), false, true) };
    const soaks = { soakMs: 60_000, failureLimit: 1, approval: false };
    const world = started({
      devices: 2,
      atOnce: 1,
      gate: soaks,
      each: [
        { ...proves, site: 'a' },
        { ...proves, site: 'a' },
      ],
    });
    for (let n = 0; n < 9; n++) done(world);
    const says = 'has reached its target, and soaks with wave 1 (all)';
    expect(why(world)).toEqual({ text: says, until: null });
    while (world.state.waves[0]!.phase === 'open') done(world, 'd2');
    expect(why(world)).toEqual({ text: says, until: world.state.waves[0]!.endedAt! + 60_000 });
    world.now += 60_000;
    world.settle();
    expect(world.state.waves[0]!.phase).toBe('proving');
    // One at a time again, and it is told of its turn now.
    const other = world.state.runs.findIndex((r) => r.phase === 'parked');
    expect(why(world, other)).toEqual({ text: 'waits for its turn: 1 at once', until: null });
  });

  it('is its window, or that none is left', () => {
    const world = started({ window: { text: '', spans: [[9_000_000, 9_900_000]] } });
    upTo(world, 'activate');
    expect(why(world)).toEqual({ text: 'waits for its window', until: 9_000_000 });
    expect(why(world, 0, 9_900_000)).toEqual({ text: 'no window is left that is long enough for it', until: null });
  });

  it('is a need, but not of who is being mended', () => {
    const world = started({ devices: 2, gate, each: [{}, { needs: [{ leg: 0, device: 'd1' }] }] });
    expect(why(world, 1)).toEqual({ text: 'waits for sw-1, which has to be done first', until: null });
  });

  it('is how long ago another has begun, at its site or on what it is handled through', () => {
    const at = { site: 'quay' };
    const apart = started({ devices: 2, atOnce: 9, apartMs: 600_000, gate, each: [at, at] });
    upTo(apart, 'activate', 'd1');
    upTo(apart, 'activate', 'd2');
    const [later] = apart.runsIn('parked');
    const wall = apart.now;
    expect(why(apart, later!.index)).toEqual({
      text: 'waits: the one before it at quay has begun only just now',
      until: wall + 600_000,
    });
    // It is the clock of waits that counts, to the moment.
    expect(why(apart, later!.index, wall, wall + 599_999)?.until).toBe(wall + 600_000);
    expect(why(apart, later!.index, wall, wall + 600_000)).toBeNull();
    const through = (key: string): string | null => {
      const plan = { ...apart.plan, spacing: { [key]: 1000 } };
      const runs = plan.runs.map((r) => ({ ...r, room: [key] }));
      const ledger = new Ledger();
      const state = { ...initialState({ ...plan, runs }), phase: 'running' as const, wave: 0 };
      ledger.add(state);
      ledger.follow(state, { kind: 'stretch-entered', at: 5, run: 'd1', stretch: 0, attempt: 1, claims: [{ key, mode: 'shared' }] });
      return whyWaiting(state, 1, ledger, () => '', 5)?.text ?? null;
    };
    expect(through('parent:d9')).toBe('waits: the one before it on what it is handled through has begun only just now');
    expect(through('apart:quay')).toBe('waits: the one before it at quay has begun only just now');
  });
});

describe('what is said of who lacks a claim', () => {
  const self: Holder = { rollout: 'r', run: 'me' };
  const says = (key: string, holders: readonly string[], under = ['d1', 'd7'], most?: number): string => {
    const ledger = new Ledger();
    if (most !== undefined) {
      const plan = planOf({ devices: 1, first: 0 });
      ledger.add(initialState({ ...plan, capacity: { [key]: most } }));
    }
    for (const run of holders) ledger.hold({ rollout: run === 'stranger' ? 's' : 'r', run }, [{ key, mode: 'shared' }]);
    return lackText({ key, mode: 'shared' }, { device: 'd1', under }, self, ledger, ({ rollout, run }) =>
      rollout === 's' ? 'a stranger' : run,
    );
  };
  it.each([
    ['up:d1', ['a'], 'waits for a: it hangs on this device, and must not lose it now'],
    ['up:d1', ['a', 'b'], 'waits for a, b: they hang on this device, and must not lose it now'],
    ['up:d7', ['a'], 'waits for a, on which it hangs, to be back'],
    ['up:d8', ['a'], 'waits for a, which gives what it needs to come back'],
    ['radio:d4', ['a', 'b'], 'waits for a, b: together they would take the last radio where one of them reaches'],
    ['ring:1', ['a'], 'waits for a: one device of their ring may be down at a time'],
    ['feeds:d4', ['a', 'b'], 'waits for a, b: together they would take the last power of a device'],
    ['device:d1', ['a'], 'waits for a, which has it in hand'],
    ['device:d1', ['a', 'b', 'c'], 'waits for a, b, c, which has it in hand'],
    ['device:d1', ['a', 'b', 'c', 'd'], 'waits for a, b, c and 1 more, which has it in hand'],
    ['device:d1', ['a', 'b', 'c', 'd', 'e'], 'waits for a, b, c and 2 more, which has it in hand'],
    ['device:d1', ['me', 'a'], 'waits for a, which has it in hand'],
    ['store:d2', ['a'], 'waits for a, which brings an image to the same storage'],
  ])('%s held by %j', (key, holders, said) => expect(says(key, holders)).toBe(said));

  it('names the run of another rollout that bears the same name', () => {
    const ledger = new Ledger();
    ledger.hold(self, [{ key: 'device:d1', mode: 'shared' }]);
    ledger.hold({ rollout: 's', run: 'me' }, [{ key: 'device:d1', mode: 'shared' }]);
    const said = lackText(
      { key: 'device:d1', mode: 'exclusive' },
      { device: 'd1', under: ['d1'] },
      self,
      ledger,
      ({ rollout, run }) => `${run} of ${rollout}`,
    );
    expect(said).toBe('waits for me of s, which has it in hand');
  });

  it.each([
    ['parent:d9', 'waits for its turn: 2 at once on what it is handled through'],
    ['link:quay', 'waits for its turn: 2 at once over the link of quay'],
    ['site:quay', 'waits for its turn: 2 at once at quay'],
    ['rollout:r', 'waits for its turn: 2 at once'],
  ])('%s has so many places', (key, said) => expect(says(key, ['a', 'b'], ['d1'], 2)).toBe(said));
});

describe('the verbs that Barrow knows', () => {
  const traits = (step: string): string =>
    (Object.entries(traitsOf(step)) as [keyof StepTraits, unknown][])
      .flatMap(([trait, value]) => (value === plainTraits[trait] ? [] : [`${trait}=${String(value)}`]))
      .join(' ');
  it.each([
    ['backup', ''],
    ['preflight', 'looks=true'],
    ['transfer', 'stoppable=false writes=true'],
    ['activate', 'whenLost=ask stoppable=false writes=true'],
    ['reboot', 'whenLost=ask stoppable=false writes=true down=true'],
    ['return', 'down=true waits=true'],
    ['checks', 'waits=true'],
    ['fall-back', 'stoppable=false writes=true'],
    ['restore', 'stoppable=false writes=true'],
    ['cut-power', 'stoppable=false down=true'],
    ['give-power', 'stoppable=false down=true'],
    ['by-hand', 'waits=true'],
    ['confirm', 'stoppable=false writes=true'],
    ['set-aside', 'sets=aside'],
    ['put-back', 'sets=back'],
    ['settle', 'waits=true'],
    ['level', 'stoppable=false writes=true'],
    ['a-word-of-a-family', ''],
  ])('%s: %s', (step, differs) => expect(traits(step)).toBe(differs));

  it('may be done again, and left, where nothing else is said', () => {
    expect(plainTraits).toEqual({ whenLost: 'again', stoppable: true, writes: false, down: false, waits: false, looks: false });
  });

  it('are told by what they are for, and a word of a family by itself', () => {
    const verbs =
      'preflight backup transfer verify-image activate confirm-next-boot reboot return checks take-stock fall-back restore cut-power give-power by-hand confirm set-aside put-back settle level'.split(
        ' ',
      );
    for (const verb of verbs) {
      expect(stepMeaning(verb).length, verb).toBeGreaterThan(10);
      expect(stepMeaning(verb)).not.toBe(verb.replaceAll('-', ' '));
    }
    expect(stepMeaning('move-call-traffic')).toBe('move call traffic');
  });
});
