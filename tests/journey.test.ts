import { readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Device, Discovery, Image, Offer, RehearsalView, Report, Rollout, Taken, Transfer } from '@barrow/core';
import { withChanges } from '@barrow/client';
import { community, login, snmpPort, sshPort } from '@barrow/standins';
import { barrowProcess } from './support/service.js';
import { loginsOf, type Scene, setScene } from './support/scene.js';

/** The whole journey as a technician takes it: by the command line, one command after the other. */
describe('from an empty database to a verified fleet, by the command line', () => {
  let scene: Scene;
  let rollout: Rollout;
  beforeAll(async () => {
    scene = await setScene({ network: 54, only: ['eelgate-sw-1', 'eelgate-sw-3', 'dunmoor-sw-1', 'quay-rt-1'] });
  });
  afterAll(() => scene?.end());

  const run = (args: string[], use: { input?: string; env?: Record<string, string> } = {}) =>
    barrowProcess(args, { data: scene.data, ...use });
  const json = async <T>(args: string[]): Promise<T> => {
    const ran = await run([...args, '--json']);
    expect(ran.err, args.join(' ')).toBe('');
    return ran.json<T>();
  };
  const image = (part: string) => scene.images.find((i) => i.endsWith(part))!;

  it('takes secrets from standard input or the environment, and never shows them again', async () => {
    expect((await run(['credential', 'add', 'snmp', '--kind', 'snmp-v2c'], { input: `${community}\n` })).code).toBe(0);
    expect(
      (
        await run(['credential', 'add', 'ssh', '--kind', 'ssh-password', '--user', login.user, '--secret-env', 'PW'], {
          env: { PW: login.password },
        })
      ).code,
    ).toBe(0);
    const shown = await run(['credential', 'list', '--json']);
    expect(shown.out).not.toContain(community);
    expect(shown.out).not.toContain(login.password);
    const db =
      readFileSync(join(scene.data, 'barrow.db')).toString('latin1') + readFileSync(join(scene.data, 'barrow.db-wal')).toString('latin1');
    expect(db).not.toContain(login.password);
    for (const file of ['key', 'token']) expect(statSync(join(scene.data, file)).mode & 0o777, file).toBe(0o600);
  });

  it('discovers what is there and what it runs', async () => {
    for (const [site, n] of [
      ['quay-house', 1],
      ['eelgate', 2],
      ['dunmoor-depot', 4],
    ] as const)
      expect(
        (
          await run([
            'network',
            'add',
            site,
            '--site',
            site,
            '--range',
            `127.54.${n}.1-40`,
            '--credential',
            'snmp',
            '--credential',
            'ssh',
            '--snmp-port',
            String(snmpPort),
            '--ssh-port',
            String(sshPort),
            '--rate',
            '5000',
            '--trust-now',
          ])
        ).code,
      ).toBe(0);
    const found = await json<Discovery>(['discover']);
    expect(found).toMatchObject({ state: 'done', addresses: 120, answered: 4, silent: [], problems: [] });
    expect(found.found.every((f) => f.what === 'new')).toBe(true);
    const devices = await json<Device[]>(['device', 'list']);
    expect(
      devices.map(
        (d) =>
          `${d.name} ${d.address} ${d.kind} ${d.maker} ${d.model} ${d.hardwareRevision} ${d.firmware} ${d.bootLoader} ${d.family} ${d.site}`,
      ),
    ).toEqual([
      'dunmoor-sw-1 127.54.4.11 switch Tarnbrook TB-2424 B1 4.2.1 1.7 tarnbrook-access dunmoor-depot',
      'eelgate-sw-1 127.54.2.11 switch Tarnbrook TB-2424 A2 4.2.1 1.7 tarnbrook-access eelgate',
      'eelgate-sw-3 127.54.2.13 switch Tarnbrook TB-2408 A2 4.2.1 1.7 tarnbrook-access eelgate',
      'quay-rt-1 127.54.1.1 router Wendlock WR-110 3 R7.02 W1.4 wendlock-branch quay-house',
    ]);
    for (const d of devices) {
      expect(d.serial).toBe(scene.fleet.device(d.name).options.serial);
      expect(d.mac).toBe(scene.fleet.device(d.name).options.mac);
      expect(d.standing).toBe('no-target');
    }
    const again = await json<Discovery>(['discover', 'eelgate']);
    expect(again.found.map((f) => f.what)).toEqual(['same', 'same']);
  });

  it('keeps the raw answers with their time', async () => {
    const d = await json<Device & { observations: { probe: string; at: string; raw: Record<string, unknown> }[] }>([
      'device',
      'show',
      'QUAY-RT-1',
    ]);
    expect(d.observations[0]!.probe).toBe('SNMP v2c');
    expect(d.observations[0]!.raw['1.3.6.1.2.1.1.1.0']).toBe('Wendlock WR-110 router running R7.02');
    expect(Date.parse(d.observations[0]!.at)).toBeGreaterThan(Date.now() - 120_000);
    expect(Date.parse((d as unknown as { upSince: string }).upSince)).toBeLessThan(Date.now());
  });

  it('refuses a damaged file and one for other gear, says what differed, and takes the good ones', async () => {
    const damaged = await run(['image', 'add', image('damaged/tb24-4.3.0.simg')]);
    expect(damaged.code).toBe(4);
    expect(damaged.err).toMatch(/header tells SHA-256 [0-9a-f]{64}, the content has [0-9a-f]{64}/);
    const other = await run(['image', 'add', image('other/tb99-4.3.0.simg')]);
    expect(other.code).toBe(4);
    expect(other.err).toContain('is for Tarnbrook TB-9900; no family here has such a model');
    const contradicted = await run(['image', 'add', image('images/tb24-4.3.0.simg'), '--revision', 'B1']);
    expect(contradicted.code).toBe(4);
    expect(contradicted.err).toContain('hardware revision: the header in the file says A1, A2, you say B1');
    for (const name of ['tb24-4.3.0', 'tb24b-4.3.0', 'wr110-R7.04']) {
      const added = await json<Taken>(['image', 'add', image(`images/${name}.simg`)]);
      expect(added.images[0]!.sha256).toMatch(/^[0-9a-f]{64}$/);
    }
    const twice = await run(['image', 'add', image('images/tb24-4.3.0.simg')]);
    expect(twice).toMatchObject({ code: 0 });
    expect(twice.out).toContain('The store had this already');
    const list = await json<Image[]>(['image', 'list']);
    expect(list.map((i) => `${i.file} ${i.version} ${i.fits}`)).toEqual([
      'tb24-4.3.0.simg 4.3.0 2',
      'tb24b-4.3.0.simg 4.3.0 1',
      'wr110-R7.04.simg R7.04 1',
    ]);
    expect((await run(['image', 'verify'])).code).toBe(0);
  });

  it('shows who is behind, and by which image', async () => {
    await json(['target', 'set', 'tarnbrook-access', 'V4.3.0 build 0419']);
    await json(['target', 'set', 'wendlock-branch', 'R7.04']);
    const devices = await json<Device[]>(['standing']);
    expect(devices.map((d) => `${d.name} ${d.standing} ${d.path.map((p) => p.file).join()}`)).toEqual([
      'dunmoor-sw-1 behind tb24b-4.3.0.simg',
      'eelgate-sw-1 behind tb24-4.3.0.simg',
      'eelgate-sw-3 behind tb24-4.3.0.simg',
      'quay-rt-1 behind wr110-R7.04.simg',
    ]);
  });

  it('stages by hand only for hardware that fits, and only to that address', async () => {
    const wrong = await run(['staging', 'put', 'tb24-4.3.0.simg', 'dunmoor-sw-1']);
    expect(wrong.code).toBe(4);
    expect(wrong.err).toContain('hardware revision: image is for A1, A2, device is B1');
    expect((await run(['staging', 'put', 'tb24-4.3.0.simg', 'eelgate-sw-1'])).code).toBe(0);
    const [offer] = await json<Offer[]>(['staging', 'list']);
    expect(offer).toMatchObject({ file: 'tb24-4.3.0.simg', protocol: 'tftp', bytes: statSync(image('images/tb24-4.3.0.simg')).size });
    expect(offer!.url).toBe(`tftp://${scene.served.tftp}/tb24-4.3.0.simg`);
    expect(offer!.devices.map((d) => d.name)).toEqual(['eelgate-sw-1']);
    expect((await run(['staging', 'drop', 'tb24-4.3.0.simg'])).code).toBe(0);
    expect(await json<Offer[]>(['staging', 'list'])).toEqual([]);
  });

  it('plans, rehearses, and begins nothing by that', async () => {
    const before = loginsOf(scene.fleet);
    rollout = await json<Rollout>(['rollout', 'plan', '--name', 'trial', '--soak', '1s', '--at-once', '2', '--unsaved', 'save']);
    expect(rollout.waves.map((w) => [w.name, w.gate.soakMs])).toEqual([
      ['first', 1000],
      ['rest', 0],
    ]);
    // One of each family and model.
    expect(rollout.runs.filter((r) => r.wave === 0).length).toBe(3);
    const rehearsal = await json<RehearsalView>(['rollout', 'rehearse', rollout.id]);
    expect(rehearsal.mostAtOnce).toBe(2);
    expect(rehearsal.runs.length).toBe(4);
    expect(rehearsal.totalMs).toBeGreaterThan(2000);
    expect(rehearsal.leastMs).toBeLessThanOrEqual(rehearsal.totalMs);
    expect(rehearsal.latest).toBeNull();
    expect(rehearsal.chain[0]).toMatchObject({ waited: null, from: rehearsal.beginsAt });
    expect(rehearsal.chain.at(-1)!.until).toBe(rehearsal.endsAt);
    const long = (await run(['rollout', 'rehearse', 'latest'])).out.split('What makes it long')[1]!;
    expect(long).toMatch(/^\+0 s +\S+ [\s\S]*?\n\+\S+.* +1 s +soaks, or time that has to lie between/m);
    expect((await run(['rollout', 'show', 'latest', '--chart'])).err).toContain('There is nothing to foretell');
    // One pilot device does not come back: the others are verified while Barrow waits, then the rollout is held.
    const first = rollout.runs.find((r) => r.wave === 0)!.name;
    const what = await run(['rollout', 'rehearse', 'latest', '--if', `${first}@return`]);
    expect(what.out).toContain(`What if ${first} fails at return (never-returned):`);
    expect(what.out).toMatch(/Held \+.+: 1 failed in wave 1 \(first\); the limit is 1\./);
    expect(what.out).toContain('In the end: 2 of 4 verified, 1 failed, 1 waiting.');
    const onward = await json<RehearsalView>(['rollout', 'rehearse', rollout.id, '--if', first, '--go-on']);
    expect(onward).toMatchObject({ stuck: null, totals: { verified: 3, failed: 1, waiting: 0 } });
    expect(await run(['rollout', 'rehearse', 'latest', '--if', `${first}@landing`])).toMatchObject({ code: 4 });
    expect((await run(['rollout', 'rehearse', 'latest', '--if', `${first}@return:never-retured`])).err).toContain(
      'is never-returned meant?',
    );
    expect(loginsOf(scene.fleet)).toEqual(before);
    const text = await run(['rollout', 'show', 'latest']);
    expect(text.out).toContain('Point of no return: activate.');
  });

  it('runs to the end, each device once, and exits with 0', async () => {
    const { client } = scene.served;
    const began = await client.rollout(rollout.id);
    // Who looks on is told of those to whom something happened, and knows all of it.
    const looksOn = (async () => {
      let seen = began;
      let told = 0;
      for await (const event of client.events({ after: began.journal })) {
        if (event.kind !== 'journal') continue;
        const changes = await client.rolloutChanges(rollout.id, seen.stand);
        told += changes.runs.length;
        seen = withChanges(seen, changes);
        if (event.entry.event.kind === 'rollout-ended') return { seen, told };
      }
    })();
    const followed = await run(['rollout', 'start', rollout.id, '--follow']);
    expect(followed.err).toBe('');
    const { seen, told } = (await looksOn)!;
    const ended = await client.rollout(rollout.id);
    expect(seen).toEqual({ ...ended, stand: seen.stand });
    expect(told).toBeLessThan((ended.journal - began.journal) * 4);
    expect((await client.rolloutChanges(rollout.id, seen.stand)).runs).toEqual([]);
    for (const unknown of ['x', 'x.1', `${seen.stand}x`, seen.stand.split('.')[0]!])
      expect((await client.rolloutChanges(rollout.id, unknown)).runs, unknown).toEqual(ended.runs);
    expect(followed.out).toContain('4 of 4 verified.');
    // As it went: each device as the rollout says it of each, down for as long as the report does, beside what was rehearsed.
    const went = await client.timeline(rollout.id);
    expect(went.runs.map((r) => [r.run, r.beginsAt, r.endsAt, r.outcome]).sort()).toEqual(
      ended.runs.map((r) => [r.id, r.begunAt, r.endedAt, 'verified']).sort(),
    );
    expect(went).toMatchObject({ now: ended.endedAt, endsAt: ended.endedAt, beginsAt: ended.startedAt, stuck: null });
    expect(went.rehearsed.runs).toHaveLength(4);
    expect(went.runs.every((r) => r.downs === 1 && r.dark.length === 1 && r.parts.length === 3)).toBe(true);
    expect((await run(['rollout', 'show', rollout.id, '--chart'])).out).toMatch(/█[\s\S]*; it ended \S+ (\S+ )?/);
    expect(followed.out).toMatch(/wave 1 ended, soaking for 1 s[\s\S]*gate 1 passed[\s\S]*wave 2 opened/);
    expect(followed.code).toBe(0);
    for (const device of scene.fleet.devices)
      expect(device.counters).toMatchObject({ pulls: 1, writesDone: 1, activations: 1, reboots: 1, restartsInWrite: 0 });
    expect(scene.fleet.device('eelgate-sw-3').counters.savedSettings).toBe(1);
    expect(scene.fleet.device('eelgate-sw-3').settings).toContain('port 5 note ticket printer');
  });

  it('shows each transfer, tied to the device that asked', async () => {
    const transfers = await json<Transfer[]>(['transfer', 'list']);
    expect(transfers.map((t) => `${t.deviceName} ${t.file} ${t.state}`).sort()).toEqual([
      'dunmoor-sw-1 tb24b-4.3.0.simg done',
      'eelgate-sw-1 tb24-4.3.0.simg done',
      'eelgate-sw-3 tb24-4.3.0.simg done',
      'quay-rt-1 wr110-R7.04.simg done',
    ]);
    for (const t of transfers) expect(t).toMatchObject({ blockSize: 1428, windowSize: 4, bytes: t.totalBytes });
  });

  it('reports before, after, digests, checks, times and who started it', async () => {
    const report = await json<Report>(['report', 'latest']);
    expect(report.rollout).toMatchObject({ name: 'trial', startedBy: 'first admin', phase: 'ended' });
    for (const r of report.runs) {
      expect(r).toMatchObject({ outcome: 'verified', attempts: 1, digestOnDevice: r.image });
      const made = r.checks.map((c) => `${c.name} ${c.result}`);
      expect(made.slice(0, 6)).toEqual(
        ['serial', 'version', 'restart', 'next boot', 'boot loader', 'configuration'].map((n) => `${n} passed`),
      );
      // What is around it, as far as it tells of that: who has cables tells more.
      expect(made.slice(6)).toEqual(expect.arrayContaining(['doors passed', 'clock passed']));
      expect(r.checks.every((c) => c.result === 'passed')).toBe(true);
      expect(r.backup).toMatch(/^[0-9a-f]{64}$/);
      expect(r.after).toBe(r.target === 'R7.04' ? 'R7.04' : '4.3.0');
      expect(r.downMs).toBeGreaterThan(0);
    }
    const page = await run(['report', 'latest', '--format', 'html']);
    expect(page.out).toMatch(/^<!doctype html>[\s\S]*4 of 4[\s\S]*verified/);
  });

  it('has saved a backup of each device, with its secrets for admins only', async () => {
    const backups = await json<{ id: string; sha256: string; deviceName: string }[]>(['backup', 'list']);
    expect(backups.map((b) => b.deviceName).sort()).toEqual(['dunmoor-sw-1', 'eelgate-sw-1', 'eelgate-sw-3', 'quay-rt-1']);
    const mine = backups.find((b) => b.deviceName === 'eelgate-sw-1')!;
    expect((await run(['backup', 'show', mine.id])).out).toContain('watchword tide-eelgate-sw-1-7731');
    // A report tells its digest.
    expect((await run(['backup', 'show', mine.sha256.slice(0, 12)])).out).toContain('watchword tide-eelgate-sw-1-7731');
    const operator = (await json<{ token: string }>(['token', 'add', 'ops', '--role', 'operator'])).token;
    expect((await run(['backup', 'show', mine.id, '--token', operator])).code).toBe(4);
  });

  it('upgrades one device that was set back, with the same safeguards', async () => {
    const device = scene.fleet.device('quay-rt-1');
    device.choose('wr110-R7.02.simg');
    device.restart();
    await expect.poll(() => device.state === 'up' && device.running.version).toBe('R7.02');
    const changed = await json<Discovery>(['discover', 'quay-house']);
    expect(changed.found[0]).toMatchObject({ what: 'changed', detail: 'firmware R7.04 → R7.02' });
    const upgraded = await run(['upgrade', 'quay-rt-1']);
    expect(upgraded.out + upgraded.err).toContain('1 of 1 verified.');
    expect(upgraded.code).toBe(0);
    // Its file was on the flash already and sound, so nothing was moved again.
    expect(device.counters.pulls).toBe(1);
    const nothing = await run(['upgrade', 'quay-rt-1']);
    expect(nothing.code).toBe(4);
    expect(nothing.err).toContain('runs its target R7.04 already');
  });
});
