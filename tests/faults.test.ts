import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { CauseCode, Report, Rollout } from '@barrow/core';
import { upgradeFaults, type FaultName } from '@barrow/standins';
import { barrow } from './support/service.js';
import { isEnded, isHeld, loginsOf, prepare, rolloutUntil, type Scene, setScene } from './support/scene.js';

/** Each named fault on a device of its own, and the cause that a technician must read. */
const table = upgradeFaults.map(({ device, fault, cause }): [device: string, fault: FaultName, cause: CauseCode] => [device, fault, cause]);
const good = ['sandpiper-sw-1', 'curlew-sw-1'];

describe('every named fault, switched on', () => {
  let scene: Scene;
  let rollout: Rollout;
  let report: Report;

  beforeAll(async () => {
    scene = await setScene({ network: 51, more: table.filter(([device]) => device.startsWith('more-')).length });
    await prepare(scene);
    for (const [device, fault] of table) scene.fleet.fault(device, fault);
    const { client } = scene.served;
    const plan = await client.plan({ first: 0, atOnce: 40, failureLimit: 100, soakSeconds: 0 });
    await client.say(plan.id, 'start');
    rollout = await rolloutUntil(client, plan.id, isEnded);
    report = await client.report(plan.id);
  });
  afterAll(() => scene?.end());

  it.each(table)('%s with %s fails with the cause %s', (device, _fault, cause) => {
    const run = rollout.runs.find((r) => r.name === device)!;
    expect({ outcome: run.outcome, cause: run.cause?.code, detail: run.detail }).toMatchObject({ outcome: 'failed', cause });
    expect(run.cause!.next.length).toBeGreaterThan(20);
    expect(report.runs.find((r) => r.name === device)?.cause?.code).toBe(cause);
  });

  it('leaves every other device verified and unharmed', () => {
    for (const name of good) {
      expect(rollout.runs.find((r) => r.name === name)?.outcome, name).toBe('verified');
      expect(scene.fleet.device(name).running.version).toBe('4.3.0');
    }
  });

  it('counts a device with settings that nobody saved as not begun, shows them, and touches nothing', () => {
    const run = rollout.runs.find((r) => r.name === 'eelgate-sw-3')!;
    expect(run).toMatchObject({ outcome: 'not-begun', cause: { code: 'unsaved-settings' } });
    expect(run.detail).toContain('port 5 note ticket printer');
    expect(scene.fleet.device('eelgate-sw-3').counters).toMatchObject({ pulls: 0, activations: 0, reboots: 0, savedSettings: 0 });
  });

  it('never restarts a device that was writing, and never activates what did not verify', () => {
    for (const device of scene.fleet.devices) {
      const { counters, faults } = device;
      if (!faults.has('reboots-during-write')) expect(counters.restartsInWrite, device.options.name).toBe(0);
      expect(counters.activations).toBeLessThanOrEqual(1);
    }
    for (const name of ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'gannet-sw-2', 'dunmoor-sw-1', 'quay-rt-1', 'dunmoor-rt-1']) {
      expect(scene.fleet.device(name).counters.activations, name).toBe(0);
      expect(scene.fleet.device(name).counters.reboots, name).toBe(0);
    }
  });

  it('shows the differences when settings were lost, with their secrets hidden', () => {
    const run = report.runs.find((r) => r.name === 'gannet-sw-1')!;
    const check = run.checks.find((c) => c.name === 'configuration')!;
    expect(check.result).toBe('failed');
    expect(check.evidence).toContain('-name gannet-sw-1');
    expect(check.evidence).toContain('-watchword ‹hidden›');
    expect(JSON.stringify(report)).not.toContain('tide-gannet');
  });

  it('says what the store saw when nothing was asked for', () => {
    expect(rollout.runs.find((r) => r.name === 'dunmoor-sw-1')?.detail).toMatch(
      /No request from 127\.51\.\S+ reached the store .* Its own ping of 127\.0\.0\.1 arrives/,
    );
  });

  it('tells the cause in the command line, with what to look at next, and ends with 1', async () => {
    const shown = await barrow(['rollout', 'show', rollout.id], { data: scene.data });
    for (const [device, , cause] of table) expect(shown.out).toMatch(new RegExp(`${device}: .*\\(${cause}, at `));
    expect(shown.out).toContain('Next: ');
    const followed = await barrow(['rollout', 'follow', rollout.id], { data: scene.data });
    expect(followed.code).toBe(1);
  });

  it('tells the cause in the printable report and in CSV, escaped', async () => {
    const { client } = scene.served;
    const page = await client.reportAs(rollout.id, 'html');
    expect(page).toContain('The device found the image damaged after it had been transferred.');
    expect(page).not.toContain('<script');
    const lines = (await client.reportAs(rollout.id, 'csv')).trim().split('\r\n');
    expect(lines.length).toBe(1 + 14 + 8);
    expect(lines.find((l) => l.startsWith('quay-sw-2,'))).toContain('image-damaged');
  });

  it('keeps no secret in a conversation', async () => {
    const detail = await scene.served.client.run(rollout.id, 'curlew-sw-1');
    const all = detail.conversations.map((c) => c.text).join('\n');
    expect(all).toContain('‹the settings, kept sealed as a backup›');
    expect(all).not.toContain('watchword');
    expect(all).not.toContain('lan 10 office');
    expect(all).not.toContain('tide-curlew');
    expect(all).not.toContain('heron-at-low-tide');
  });
});

describe('a retry', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 65, only: ['quay-sw-1', 'quay-sw-2'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('after the version was brought still finds that the settings are lost, and is content once they are back', async () => {
    const { client } = scene.served;
    const device = scene.fleet.device('quay-sw-1');
    const before = [...device.settings];
    device.faults.add('returns-with-settings-lost');
    const plan = await client.plan({ devices: ['quay-sw-1'], first: 0 });
    await client.say(plan.id, 'start');
    expect((await rolloutUntil(client, plan.id, isEnded)).runs[0]!.cause?.code).toBe('settings-changed');
    await client.sayRun(plan.id, 'quay-sw-1', 'retry');
    const again = (await rolloutUntil(client, plan.id, isEnded)).runs[0]!;
    expect(again).toMatchObject({ outcome: 'failed', cause: { code: 'settings-changed' }, step: 'preflight' });
    expect(again.detail).toContain('-name quay-sw-1');
    expect(again.detail).not.toContain('tide-quay');
    const shown = await barrow(['rollout', 'show', plan.id], { data: scene.data });
    expect(shown.out).toContain('This was attempt 2. `barrow report` shows why it failed before');
    device.settings = [...before];
    await device.keepSettings();
    await client.sayRun(plan.id, 'quay-sw-1', 'retry');
    const content = (await rolloutUntil(client, plan.id, isEnded)).runs[0]!;
    expect(content).toMatchObject({
      outcome: 'verified',
      detail: 'an earlier attempt brought 4.3.0; all that is compared was compared again',
    });
    expect(device.counters).toMatchObject({ activations: 1, reboots: 1 });
    // The report forgets neither why the attempts before failed, nor what they did to the device.
    const { earlier } = (await client.report(plan.id)).runs[0]!;
    expect(earlier!.map((e) => [e.cause.code, e.changed.includes('reboot')])).toEqual([
      ['settings-changed', true],
      ['settings-changed', false],
    ]);
  });
});

describe('the failure limit', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 52, only: ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'eelgate-sw-1'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('holds the wave, leaves the rest untouched, and goes on after a retry', async () => {
    const { client } = scene.served;
    scene.fleet.fault('quay-sw-1', 'damaged-in-transit');
    const before = loginsOf(scene.fleet);
    const plan = await client.plan({ devices: ['quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'eelgate-sw-1'], first: 0, atOnce: 2 });
    const order = plan.runs.map((r) => r.name);
    const followed = await barrow(['rollout', 'start', plan.id, '--follow'], { data: scene.data });
    expect(followed.out).toContain('Held: 1 failed in wave 1 (all); the limit is 1.');
    expect(followed.out).toMatch(/quay-sw-1 +1\/9 preflight/);
    expect(followed.code).toBe(1);
    const held = await rolloutUntil(client, plan.id, isHeld);
    // The other one under way was parked between two steps, before its point of no return, or had passed it.
    expect(held.runs.filter((r) => r.phase === 'ready').every((r) => !r.pastReturn)).toBe(true);
    expect(held.heldBy).toBe('Barrow');
    expect(held.heldBecause).toMatch(/^1 failed in wave 1 \(all\); the limit is 1$/);
    for (const name of order.slice(order.indexOf('quay-sw-1') + 1)) {
      expect(held.runs.find((r) => r.name === name)?.phase).toBe('waiting');
      expect(scene.fleet.device(name).counters.logins).toBe(before.get(name));
    }
    scene.fleet.fault('quay-sw-1', 'damaged-in-transit', false);
    await client.sayRun(plan.id, 'quay-sw-1', 'retry');
    await client.say(plan.id, 'continue');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.totals).toMatchObject({ verified: 5, failed: 0 });
    expect(ended.runs.find((r) => r.name === 'quay-sw-1')?.attempt).toBe(2);
  });
});
