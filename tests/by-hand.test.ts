import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Device, ImportResult } from '@barrow/core';
import { BarrowClient } from '@barrow/client';
import { discover, setScene, type Scene } from './support/scene.js';
import { barrow, folder } from './support/service.js';
import { addWholeNetworks } from './support/whole.js';

describe('what people enter, through the command line', () => {
  let scene: Scene;
  const dir = folder();
  const run = (args: readonly string[], input?: string) => barrow(args, { data: scene.data, ...(input === undefined ? {} : { input }) });
  const list = async (...args: string[]) => (await run(['device', 'list', '--json', ...args])).json<Device[]>();
  beforeAll(async () => {
    scene = await setScene({
      network: 73,
      only: ['quay-sw-1', 'quay-sw-2', 'quay-core-1', 'quay-pdu-1', 'quay-phone-1', 'quay-cam-1', 'quay-rt-1'],
    });
    await addWholeNetworks(scene.served.client, 73, ['quay-house']);
    await discover(scene.served.client);
  });
  afterAll(async () => {
    await scene?.end();
    dir.remove();
  });

  it('sets what probes cannot know, and no discovery undoes it', async () => {
    const set = await run([
      'device',
      'set',
      'quay-sw-1',
      '--name',
      'hall-1',
      '--site',
      'hall',
      '--tag',
      'spare',
      '--tag',
      'lab',
      '--note',
      'by the stairs',
      '--feed',
      'quay-pdu-1:outlet 7',
    ]);
    expect(set.code).toBe(0);
    expect((await discover(scene.served.client)).counts).toMatchObject({ changed: 0, new: 0 });
    const device = await scene.served.client.device('hall-1');
    expect(device).toMatchObject({ site: 'hall', tags: ['lab', 'spare'], note: 'by the stairs', byHand: ['name', 'site'] });
    expect(device.feeds.find((f) => f.to.device === device.id)).toMatchObject({
      from: { name: 'quay-pdu-1', port: 'outlet 7' },
      sure: 'by-hand',
    });
    // The strip keeps its outlets on while it restarts.
    expect((await scene.served.client.device('quay-pdu-1')).dark).toEqual([]);
    // Given back, the next discovery tells it again.
    await run(['device', 'set', 'hall-1', '--name', '', '--site', '']);
    await discover(scene.served.client);
    expect(await scene.served.client.device('quay-sw-1')).toMatchObject({ site: 'quay-house', byHand: [] });
    const history = (await run(['device', 'history', 'quay-sw-1', '--json'])).json<{ field: string; probe: string }[]>();
    expect(history.map((h) => h.field)).toEqual(expect.arrayContaining(['name', 'site', 'tags', 'note', 'first seen']));
    expect(history.find((h) => h.field === 'note')!.probe).toBe('by hand, first admin');
  });

  it.each([
    ['nothing at all', ['device', 'set', 'quay-sw-1'], 2, 'No field was given'],
    ['a parent that is not known', ['device', 'set', 'quay-sw-1', '--parent', 'nobody'], 2, '"nobody" is not known'],
    ['itself as its feed', ['device', 'set', 'quay-sw-1', '--feed', 'quay-sw-1:port 1'], 4, 'cannot be its own feed'],
    ['a kind that is none', ['device', 'set', 'quay-sw-1', '--kind', 'toaster'], 2, 'kind'],
    ['a known serial', ['device', 'add', 'x', '--site', 'y', '--serial', 'TB244137'], 4, 'has this serial already'],
    ['a MAC that is none', ['device', 'add', 'x', '--site', 'y', '--mac', 'red'], 2, 'is no MAC address'],
    ['a filter that is none', ['device', 'list', '--only', 'green'], 2, 'only'],
    ['a device that cannot blink', ['device', 'locate', 'quay-phone-1'], 4, 'does not say how'],
    ['a key where none changed', ['device', 'accept-key', 'quay-sw-1', 'SHA256:x'], 4, 'shows the key that is pinned'],
    ['an unknown credential kind', ['credential', 'add', 'x', '--kind', 'whisper', '--secret-file', '-'], 2, 'kind'],
    [
      'a v3 key that is too short',
      ['credential', 'add', 'x', '--kind', 'snmp-v3', '--user', 'u', '--secret-file', '-'],
      2,
      'asks for at least 8',
    ],
    ['a probe that is none', ['network', 'add', 'x', '--site', 'y', '--range', '127.73.9.1', '--probe', 'telepathy'], 2, 'not "telepathy"'],
    ['an IPv6 prefix', ['network', 'add', 'x', '--site', 'y', '--range', 'fd00::/64'], 2, 'prefixes of IPv6 are too large'],
  ])('refuses %s', async (_, args, code, why) => {
    const ran = await run(args, 'short\n');
    expect({ code: ran.code, out: ran.out }).toEqual({ code, out: '' });
    expect(ran.err).toContain(why);
    expect(ran.err).toMatch(/Why: .+\n\s+What to do: .+/);
  });

  it('refuses a ring of parents', async () => {
    await run(['device', 'set', 'quay-sw-2', '--parent', 'quay-sw-1']);
    const ring = await run(['device', 'set', 'quay-sw-1', '--parent', 'quay-sw-2']);
    expect({ code: ring.code, why: ring.err.includes('is itself managed through quay-sw-1') }).toEqual({ code: 4, why: true });
    await run(['device', 'set', 'quay-sw-2', '--parent', '']);
  });

  it('tells the cause when a device cannot be asked', async () => {
    const { client } = scene.served;
    // Known anew, so that no credential of before is remembered.
    await client.removeDevice('quay-sw-2');
    const other = await client.addNetwork({
      name: 'bare',
      site: 'quay-house',
      ranges: ['127.73.1.12'],
      snmpPort: 16161,
      credentials: ['ferry-snmp'],
    });
    await discover(client, ['bare']);
    const ran = await run(['device', 'locate', 'quay-sw-2']);
    expect(ran.code).toBe(4);
    expect(ran.err).toContain('network bare names no SSH credential');
    expect(ran.err).toContain('What to do: Add one with `barrow credential add NAME --kind KIND`');
    await client.removeNetwork(other.id);
    await discover(client);
  });

  it('blinks a light, once', async () => {
    expect((await run(['device', 'locate', 'quay-sw-1', '--seconds', '5'])).out).toBe('quay-sw-1 blinks for 5 s.\n');
    expect(scene.fleet.device('quay-sw-1').counters.located).toBe(1);
  });

  it('handles a device by the family that a person names, whatever it answers', async () => {
    const { client } = scene.served;
    expect((await run(['device', 'set', 'quay-sw-1', '--family', 'tarnbrook-acces'])).err).toContain('Is tarnbrook-access meant?');
    const added = await run([
      'device',
      'add',
      'pier gauge',
      '--site',
      'quay-house',
      '--family',
      'wendlock-branch',
      '--address',
      '127.73.1.39',
      '--firmware',
      'R7.01',
      '--json',
    ]);
    expect(added.json<Device>()).toMatchObject({
      family: 'wendlock-branch',
      familyEvidence: 'a person said so',
      kind: 'router',
      upgradable: true,
    });
    expect((await run(['device', 'show', 'pier gauge'])).out).toContain('R7.01, by hand\n');
    await run(['device', 'set', 'quay-sw-1', '--family', 'wendlock-branch']);
    await discover(client);
    expect(await client.device('quay-sw-1')).toMatchObject({ family: 'wendlock-branch', familyEvidence: 'a person said so' });
    await run(['device', 'set', 'quay-sw-1', '--family', '']);
    const ended = await discover(client);
    expect(await client.device('quay-sw-1')).toMatchObject({ family: 'tarnbrook-access' });
    // It lies in no range, so that nobody asked it: that is no silence.
    await run(['device', 'set', 'pier gauge', '--note', 'by the pier']);
    expect(ended.silent.map((s) => s.name)).not.toContain('pier gauge');
    await client.removeDevice('pier gauge');
  });

  it('enters a device, which a discovery then recognises by its serial', async () => {
    const { facts } = scene.fleet.fixture('quay-phone-1');
    await scene.served.client.removeDevice('quay-phone-1');
    await run(['device', 'add', 'desk of the harbour master', '--site', 'quay-house', '--kind', 'phone', '--serial', facts.serial]);
    const ended = await discover(scene.served.client);
    expect(ended.counts).toMatchObject({ new: 0, moved: 1 });
    expect(await scene.served.client.device(facts.serial)).toMatchObject({
      name: 'desk of the harbour master',
      firmware: facts.firmware,
      address: facts.address,
    });
  });

  it('filters by anything', async () => {
    expect((await list('--tag', 'lab')).map((d) => d.name)).toEqual(['quay-sw-1']);
    expect((await list('--model', 'TB-4812')).map((d) => d.name)).toEqual(['quay-core-1']);
    expect((await list('--maker', 'Owlpane', '--kind', 'camera')).map((d) => d.name)).toEqual(['quay-cam-1']);
    expect((await list('--text', 'stairs')).map((d) => d.name)).toEqual(['quay-sw-1']);
    expect((await list('--only', 'by-hand')).length).toBeGreaterThan(0);
    expect(await list('--only', 'unrecognised')).toEqual([]);
    expect((await list('--network', 'quay-house', '--firmware', '4.2.1')).map((d) => d.name)).toEqual(['quay-sw-1', 'quay-sw-2']);
  });

  it('takes out as CSV and JSON exactly what it takes in again without a change', async () => {
    for (const form of ['csv', 'json']) {
      const file = join(dir.path, `all.${form}`);
      expect((await run(['device', 'export', file])).code).toBe(0);
      const again = await run(['device', 'import', file, '--json']);
      expect(again.code).toBe(0);
      const told = again.json<ImportResult>();
      expect(told).toMatchObject({ dryRun: false, written: 0 });
      expect(new Set(told.rows.map((r) => r.what))).toEqual(new Set(['same']));
    }
    const csv = readFileSync(join(dir.path, 'all.csv'), 'utf8');
    expect(csv.split('\r\n')[0]).toMatch(/^id,name,address,kind,site,tags,parent,feed,uplink,note,/);
  });

  it('says row by row what a list would change, writes nothing on a dry run, and lets a bad row stop no other', async () => {
    const file = join(dir.path, 'in.csv');
    writeFileSync(
      file,
      [
        'name,serial,site,kind,tags,note,uplink',
        'quay-sw-2,TB244174,quay-house,switch,"lab, hall",=SUM(A1),',
        'new-cam,NEW1,hall,camera,,,quay-sw-2:port 5',
        'newer-cam,NEW2,hall,camera,,,new-cam',
        'odd,NEW3,hall,toaster,,,',
        'slip,NEW4,quay-hose,camera,,,',
        ',,hall,,,,',
        '',
      ].join('\n'),
    );
    const before = await list();
    const dry = await run(['device', 'import', file, '--dry-run', '--json']);
    expect(dry.code).toBe(1);
    expect(dry.json<ImportResult>().rows.map((r) => r.what)).toEqual(['changed', 'new', 'new', 'refused', 'new', 'refused']);
    expect(dry.json<ImportResult>().rows[4]!.detail).toContain('there is no site quay-hose yet: is quay-house meant?');
    expect(dry.json<ImportResult>().rows[0]!.detail).toEqual(['tags none → hall lab', 'note none → =SUM(A1)']);
    expect(await list()).toEqual(before);
    const done = await run(['device', 'import', file, '--json']);
    expect(done.json<ImportResult>()).toMatchObject({ dryRun: false, written: 4 });
    expect((await list('--site', 'hall')).map((d) => d.name)).toEqual(['new-cam', 'newer-cam']);
    // A formula goes out so that no spreadsheet runs it, and comes back as it was.
    expect((await run(['device', 'export', '--tag', 'hall'])).out).toContain("'=SUM(A1)");
    const link = (await scene.served.client.device('new-cam')).links;
    expect(link.map((l) => `${l.a.name} ${l.a.port} ${l.sure}`)).toContain('quay-sw-2 port 5 by-hand');
  });

  it.each([
    ['an unknown column', 'name,colour\nx,red\n', 'There is no column "colour"'],
    ['a broken quote', 'name,site\n"x,y\n', 'Quoted field unterminated'],
    ['JSON that is no list', '{"name":"x"}', 'is not a JSON array'],
    ['no JSON', '[{', 'It is not JSON'],
  ])('refuses %s whole', async (_, text, why) => {
    const ran = await run(['device', 'import', '-', ...(text.startsWith('{') || text.startsWith('[') ? ['--form', 'json'] : [])], text);
    expect(ran.code).toBe(2);
    expect(ran.err).toContain(why);
  });

  it('asks before it asks more than 65,536 addresses', async () => {
    await run(['network', 'add', 'vast', '--site', 'x', '--range', '127.180.0.0/15', '--rate', '20000', '--probe', 'snmp']);
    const asked = await run(['discover', 'vast']);
    expect(asked.code).toBe(4);
    expect(asked.err).toContain('131070 addresses');
    const { client } = scene.served;
    const running = await client.discover(['vast'], true);
    await client.stopDiscovery();
    expect((await client.discovery(running.id)).state).toBe('stopped');
    await client.removeNetwork('vast');
  });

  it('lets a viewer look at all of it and change nothing', async () => {
    const { client } = scene.served;
    const { token } = await client.addToken({ name: 'looker', role: 'viewer' });
    const viewer = new BarrowClient({ url: scene.served.url, token });
    expect((await viewer.map()).devices.length).toBeGreaterThan(5);
    expect(await viewer.exportDevices('csv')).toContain('quay-sw-1');
    for (const forbidden of [
      () => viewer.setDevice('quay-sw-1', { note: 'x' }),
      () => viewer.enterDevice({ name: 'x', site: 'y' }),
      () => viewer.importDevices('csv', 'name\n', true),
      () => viewer.locate('quay-sw-1', 1),
      () => viewer.removeDevice('quay-sw-1'),
      () => viewer.discover(),
    ])
      await expect(forbidden()).rejects.toMatchObject({ problem: { status: 403 } });
  });
});
