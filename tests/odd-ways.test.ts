import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkedFamily, OddGate, oddGateFamily } from './support/odd-gate.js';
import { patient, setGates, type Gates } from './support/odd-gates.js';
import { barrow, type Served } from './support/service.js';

describe('a family whose devices do something for others, which is set aside for the time of the change', () => {
  let here: Gates;
  let served: Served;
  const runOf = async (id: string) => (await served.client.rollout(id)).runs[0]!;
  const begin = async (n: number): Promise<string> => {
    const { id } = await served.client.plan({ devices: [`gate-${n}`], first: 0, atOnce: 1 });
    await served.client.say(id, 'start');
    return id;
  };
  const asked = (id: string) => expect.poll(async () => (await runOf(id)).asks, patient).not.toBeNull();
  const outcome = (id: string) => expect.poll(async () => (await runOf(id)).outcome, patient);
  beforeAll(async () => {
    const change = `change: [{ set-aside: 2 s }, { by-hand: 1 min, words: 'Look whether nobody comes.' }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }, { put-back: 2 s }]`;
    here = await setGates(5, 127, oddGateFamily(change, ''));
    served = here.served;
  });
  afterAll(async () => {
    await served?.kill();
    await here?.end();
  });

  it('has it set aside while it is changed, and put back when that is verified', async () => {
    const id = await begin(1);
    await asked(id);
    expect(here.gate(1)).toMatchObject({ serves: false, version: '1.0' });
    await served.client.sayRun(id, 'gate-1', 'done');
    await outcome(id).toBe('verified');
    expect(here.gate(1)).toMatchObject({ serves: true, version: '2.0' });
    const { events } = await served.client.run(id, 'gate-1');
    const begun = events.flatMap(({ event }) => (event.kind === 'step-begun' ? [event.step] : []));
    expect(begun.slice(-6)).toEqual(['set-aside', 'by-hand', 'reboot', 'return', 'checks', 'put-back']);
    expect((await served.client.rollout(id)).passages[0]!.steps.filter((s) => s.step === 'put-back')).toHaveLength(1);
  });

  it('has it put back when the change failed', async () => {
    here.gate(2).restart = async function (this: OddGate) {
      await OddGate.prototype.restart.call(this, '1.5');
    };
    const id = await begin(2);
    await asked(id);
    await served.client.sayRun(id, 'gate-2', 'done');
    await outcome(id).toBe('failed');
    expect(await runOf(id)).toMatchObject({ step: 'checks', cause: { code: 'old-version' } });
    expect((await runOf(id)).detail).not.toContain('set aside');
    expect(here.gate(2)).toMatchObject({ serves: true, version: '1.5' });
  });

  it('has it put back when a person stops it, though the service is killed meanwhile', async () => {
    const id = await begin(3);
    await asked(id);
    expect(here.gate(3).serves).toBe(false);
    await served.kill();
    served = await here.start();
    await asked(id);
    await served.client.say(id, 'stop');
    await outcome(id).toBe('withdrawn');
    expect(here.gate(3)).toMatchObject({ serves: true, version: '1.0', boots: 3 });
  });

  it('says what remains when it cannot be put back', async () => {
    const id = await begin(4);
    await asked(id);
    here.gate(4).jammed = true;
    await served.client.sayRun(id, 'gate-4', 'skip', { reason: 'another day' });
    await outcome(id).toBe('skipped');
    expect(here.gate(4).serves).toBe(false);
    const { detail } = await runOf(id);
    expect(detail).toContain('another day');
    expect(detail).toContain('what was set aside could not be put back: to /serve the device answered with status 409: jammed');
  });
});

describe('a family whose devices take an image by themselves, at an hour of their own', () => {
  let here: Gates;
  let served: Served;
  const hour = new Date(Math.ceil(Date.now() / 60_000) * 60_000 + 3_600_000);
  /** Kills the service, and starts it with a clock that says that the hour is so near. */
  const startBefore = async (ms: number, scale: number): Promise<void> => {
    await served.kill();
    served = await here.start({ scale, unruly: { clockMs: hour.getTime() - ms - Date.now() } });
  };
  const clock = hour.toISOString().slice(11, 16);
  const way = (at: string): string =>
    oddGateFamily('change: [{ activate: 2 s }, { return: 5 s }, { checks: 2 s }]', `applies: { at: '${at}', zone: UTC }`, 'activate');
  beforeAll(async () => {
    here = await setGates(4, 128, way(clock));
    served = here.served;
  });
  afterAll(async () => {
    await served?.kill();
    await here?.end();
  });

  it('refuses a window in which that hour does not lie', async () => {
    const later = new Date(hour.getTime() + 3_600_000).toISOString().slice(11, 16);
    const until = new Date(hour.getTime() + 7_200_000).toISOString().slice(11, 16);
    const window = { from: later, to: until, days: [], zone: 'UTC' };
    await expect(served.client.plan({ devices: ['gate-1'], first: 0, atOnce: 1, window })).rejects.toMatchObject({
      problem: { code: 'window-misses-hour', detail: expect.stringContaining(`at ${clock} (UTC)`) as string },
    });
  });

  it('leaves them armed until then, with no place taken, and believes of each only what it sees', async () => {
    // One at a time may be under way: who is armed keeps nobody from it.
    const { id } = await served.client.plan({ devices: ['gate-1', 'gate-2', 'gate-3'], first: 0, atOnce: 1 });
    expect((await served.client.rollout(id)).window?.text).toContain(`${clock} (UTC), at which it takes an image by itself`);
    await served.client.say(id, 'start');
    const phases = async () => (await served.client.rollout(id)).runs.map((r) => r.phase);
    // As late as possible: until then it may be thought better of.
    await expect.poll(phases, patient).toEqual(['parked', 'parked', 'parked']);
    expect(here.gates.some((g) => g.armed)).toBe(false);
    await startBefore(300_000, 40);
    const { client } = served;
    await expect.poll(phases, patient).toEqual(['armed', 'armed', 'armed']);
    expect(here.gates.slice(0, 3).map((g) => [g.armed, g.version])).toEqual(Array(3).fill([true, '1.0']));
    const [run] = (await client.rollout(id)).runs;
    expect(run!.waits).toMatchObject({ text: 'is armed: it takes what it holds by itself, at its own hour' });
    expect(Date.parse(run!.waits!.until!)).toBe(hour.getTime());
    expect((await client.device('gate-1')).armed).toMatchObject({ version: '2.0' });
    expect((await barrow(['rollout', 'show', id], { data: here.data })).out).toContain('is armed: it takes what it holds by itself');
    // Its power fails: it is the device that is believed, not the clock, and at once.
    await here.gate(2).restart('2.0');
    await expect.poll(async () => (await client.rollout(id)).runs[1]!.outcome, patient).toBe('verified');
    expect((await client.run(id, (await client.rollout(id)).runs[1]!.id)).events.map((e) => e.event)).toContainEqual(
      expect.objectContaining({ kind: 'taken-early', detail: 'it counts 4 boots, and counted 3 before' }),
    );
    // A kill forgets none of it.
    await startBefore(4000, 10);
    await here.gate(1).restart('2.0');
    await expect
      .poll(async () => (await served.client.rollout(id)).runs.map((r) => r.outcome), patient)
      .toEqual(['verified', 'verified', 'failed']);
    const [, , silent] = (await served.client.rollout(id)).runs;
    expect(silent).toMatchObject({ name: 'gate-3', step: 'return', cause: { code: 'hour-passed' } });
    expect(here.gates.map((g) => g.boots)).toEqual([4, 4, 3, 3]);
  });
});

describe('a family file with such ways', () => {
  const aside = (steps: string): string => oddGateFamily(`change: [${steps}]`, '');
  const hourly = (steps: string, applies: string): string => oddGateFamily(`change: [${steps}]`, applies, 'activate');
  const own = "applies: { at: '03:30', zone: Europe/London }";
  const plain = '{ activate: 2 s }, { return: 5 s }, { checks: 2 s }';
  it.each([
    ['set aside and put back', aside('{ set-aside: 1 s }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }, { put-back: 1 s }'), 'fits'],
    ['never put back', aside('{ set-aside: 1 s }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }'), 'set-aside comes before put-back'],
    ['never set aside', aside('{ reboot: 2 s }, { return: 5 s }, { checks: 2 s }, { put-back: 1 s }'), 'set-aside comes before put-back'],
    ['its own hour', hourly(plain, own), 'fits'],
    ['no such hour', hourly(plain, own.replace('03:30', '25:00')), 'a time of day is written as 03:30'],
    ['no such zone', hourly(plain, own.replace('Europe/London', 'Europe/Nowhere')), 'no time zone'],
    ['restarted before', hourly(plain.replace('{ return', '{ reboot: 1 s }, { return'), own), 'the step reboot restarts it before'],
    ['not waited for', hourly(plain.replace('{ return: 5 s }, ', ''), own), 'no step return waits for that'],
  ])('%s', async (_, text, says) => expect(await checkedFamily(text)).toContain(says));
});
