import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { firstSteps, type LiveEvent } from '@barrow/core';
import { serve } from './support/service.js';
import { discover, isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

interface Moment {
  readonly name: string;
  readonly is: (event: LiveEvent) => boolean;
}

/** Before and after every step, in the middle of a transfer, and around waves and gates. */
const moments: Moment[] = [
  ...firstSteps.flatMap((step): Moment[] => [
    { name: `${step} begun`, is: (e) => e.kind === 'journal' && e.entry.event.kind === 'step-begun' && e.entry.event.step === step },
    { name: `${step} done`, is: (e) => e.kind === 'journal' && e.entry.event.kind === 'step-done' && e.entry.event.step === step },
  ]),
  { name: 'half of an image moved', is: (e) => e.kind === 'progress' && e.percent >= 40 && e.percent <= 90 },
  { name: 'wave opened', is: (e) => e.kind === 'journal' && e.entry.event.kind === 'wave-opened' },
  { name: 'gate passed', is: (e) => e.kind === 'journal' && e.entry.event.kind === 'gate-passed' },
];

describe('a service that is killed', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 53, scale: 100 });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  // Two dozen starts of the service, one after the other, on a machine that may be busy with other tests.
  it(
    'at more than twenty moments of a rollout carries on each time, and no device is activated or restarted twice',
    { timeout: 1_800_000 },
    async () => {
      const plan = await scene.served.client.plan({ first: 1, atOnce: 3, soakSeconds: 1, unsaved: 'save' });
      expect(plan.runs.length).toBe(14);
      let after = plan.journal;
      await scene.served.client.say(plan.id, 'start');
      const left = new Set(moments);
      const killedAt: string[] = [];
      while (left.size > 0) {
        const { client } = scene.served;
        const stop = new AbortController();
        let moment: Moment | undefined;
        for await (const event of client.events({ after, signal: stop.signal })) {
          if (event.kind === 'journal') {
            after = event.entry.seq;
            if (event.entry.event.kind === 'rollout-ended') break;
          }
          moment = [...left].find((m) => m.is(event));
          if (moment) break;
        }
        stop.abort();
        if (!moment) break;
        await scene.served.kill();
        left.delete(moment);
        killedAt.push(moment.name);
        scene.served = await serve(scene.data, { scale: scene.scale });
      }
      expect(killedAt.length, `killed at: ${killedAt.join(', ')}; left: ${[...left].map((m) => m.name).join(', ')}`).toBeGreaterThanOrEqual(
        20,
      );

      const ended = await rolloutUntil(scene.served.client, plan.id, isEnded);
      const bad = ended.runs
        .filter((r) => r.outcome !== 'verified')
        .map((r) => `${r.name}: ${r.outcome} ${r.cause?.code ?? ''} ${r.detail ?? ''}`);
      expect(bad).toEqual([]);
      for (const device of scene.fleet.devices) {
        const { activations, reboots, restartsInWrite, powerLosses } = device.counters;
        expect({ name: device.options.name, activations, reboots, restartsInWrite, powerLosses }).toEqual({
          name: device.options.name,
          activations: 1,
          reboots: 1,
          restartsInWrite: 0,
          powerLosses: 0,
        });
      }
      const report = await scene.served.client.report(plan.id);
      expect(report.deeds.filter((d) => d.what === 'the service was started again').length).toBe(killedAt.length);
    },
  );

  it('stopped in the ordinary way in the middle of a transfer finishes the write, parks the rest, and goes on later', async () => {
    const { client } = scene.served;
    await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
    const name = 'quay-sw-1';
    const device = scene.fleet.device(name);
    // Back on the old version by hand, as a technician might have it.
    device.choose('1');
    device.restart();
    await expect.poll(() => device.state === 'up' && device.running.version).toBe('4.2.1');
    device.persistent.store[1] = { ...device.persistent.store[0]!, name: '2' };
    await discover(client);
    const before = { ...device.counters };
    const plan = await client.plan({ devices: [name, 'curlew-sw-1'], first: 0 });
    expect(plan.runs.map((r) => r.name)).toEqual([name]);
    const stop = new AbortController();
    await client.say(plan.id, 'start');
    for await (const event of client.events({ after: plan.journal, signal: stop.signal }))
      if (event.kind === 'journal' && event.entry.event.kind === 'step-begun' && event.entry.event.step === 'transfer') break;
    stop.abort();
    expect(await scene.served.stop()).toBe(0);
    expect(device.counters.writesDone).toBe(before.writesDone + 1);
    expect(device.counters.activations).toBe(before.activations);
    scene.served = await serve(scene.data, { scale: scene.scale });
    const ended = await rolloutUntil(scene.served.client, plan.id, isEnded);
    expect(ended.totals.verified).toBe(1);
    expect(device.counters.writesDone).toBe(before.writesDone + 1);
    expect(device.counters.activations).toBe(before.activations + 1);
  });
});
