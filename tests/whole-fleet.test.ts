import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Device, DeviceMap, Discovery } from '@barrow/core';
import { scenarioCables, scenarioOutlets } from '@barrow/standins';
import { addImagesAndTargets, discover, setScene, type Scene } from './support/scene.js';
import { barrow } from './support/service.js';
import { addWholeNetworks, truths } from './support/whole.js';

/** Devices that tell no name: they are known by their address. */
const nameless: Record<string, string> = { 'curlew-odd-2': '127.67.6.25', 'dunmoor-locked-1': '127.67.4.15' };
const shown = (name: string): string => nameless[name] ?? name;
/** Whose version nothing and nobody can tell. */
const untold = ['curlew-odd-2', 'dunmoor-locked-1', 'gannet-odd-1', 'quay-hold-cam-3'];

describe('the whole fleet, from an empty database', () => {
  let scene: Scene;
  let first: Discovery;
  let devices: Device[];
  let map: DeviceMap;
  beforeAll(async () => {
    scene = await setScene({ network: 67, whole: true });
    const { client } = scene.served;
    await addWholeNetworks(client, 67);
    first = await discover(client);
    first = await client.discovery(first.id);
    devices = await client.devices();
    map = await client.map();
  });
  afterAll(() => scene?.end());

  const named = (name: string): Device => devices.find((d) => d.name === shown(name))!;

  it('finds every device, those behind a parent too, with the right version or a reason why it is not known', () => {
    const all = truths(scene.fleet);
    expect(all).toHaveLength(73);
    expect(devices.map((d) => d.name).sort()).toEqual(all.map((t) => shown(t.name)).sort());
    for (const t of all) {
      const d = named(t.name);
      expect({ name: t.name, site: d.site, address: d.address }).toEqual({ name: t.name, site: t.site, address: t.address });
      if (untold.includes(t.name)) {
        expect({ name: t.name, firmware: d.firmware }).toEqual({ name: t.name, firmware: null });
        expect(d.firmwareNote).not.toBeNull();
      } else expect({ name: t.name, firmware: d.firmware }).toEqual({ name: t.name, firmware: t.firmware });
    }
  });

  it('knows kinds, serials and families, and says by which evidence', () => {
    for (const { facts: f } of scene.fleet.fixtures) {
      const d = named(f.name);
      expect({ name: f.name, kind: d.kind }).toEqual({ name: f.name, kind: f.kind });
      if (d.family !== null) expect(d.familyEvidence).not.toBeNull();
      if (!['gannet-odd-1', 'curlew-odd-2', 'dunmoor-locked-1', 'gannet-stk-1'].includes(f.name))
        expect({ name: f.name, serial: d.serial, hardware: d.hardwareRevision ?? '' }).toEqual({
          name: f.name,
          serial: f.serial,
          hardware: f.hardwareRevision === '' || f.name === 'quay-hold-cam-3' ? '' : f.hardwareRevision,
        });
    }
    expect(named('quay-hold-cam-3').firmwareNote).toBe(
      'quay-rec-1 does not tell it. To find out: unplug it from the recorder, give it an address of its own, and open its own page.',
    );
    expect(named('dunmoor-locked-1')).toMatchObject({ family: 'tarnbrook-access', kind: 'switch' });
  });

  it('names the two that no family fits, and the one that would not let it in', () => {
    expect(first.counts).toMatchObject({ new: 73, unrecognised: 2 });
    expect(first.found.filter((f) => !f.recognised).map((f) => f.name)).toEqual(
      expect.arrayContaining([shown('curlew-odd-2'), 'gannet-odd-1']),
    );
    expect(new Set(first.troubles.map((t) => `${t.address} ${t.cause}`))).toEqual(new Set(['127.67.4.15 login-refused']));
    expect(first.seen).toEqual([]);
    expect(first.problems).toEqual([]);
  });

  it('draws every cable and radio link that there is, and no other', () => {
    const idOf = new Map(map.devices.map((d) => [d.id, d.name]));
    const links = map.links.map((l) => [idOf.get(l.a.device)!, idOf.get(l.b.device)!].sort().join(' – ')).sort();
    const bundled = scenarioCables.filter((c) => c.bundle !== undefined);
    const expected = [
      ...scenarioCables.filter((c) => !bundled.slice(1).includes(c)).map((c) => [shown(c.a), shown(c.b)].sort().join(' – ')),
      ...[1, 2, 3].flatMap((n) => [`quay-hold-cam-${n} – quay-rec-1`, `quay-base-1 – quay-handset-${n}`]),
    ].sort();
    expect(links).toEqual(expected);
    for (const cable of scenarioCables.filter((c) => c.radio)) {
      const link = map.links.find((l) => [l.a.name, l.b.name].sort().join() === [cable.a, cable.b].sort().join());
      expect(link?.medium).toBe('wireless');
    }
    // The core pair is one link of two cables; what sends no LLDP is only suggested.
    expect(map.links.find((l) => l.a.name === 'quay-core-1' && l.b.name === 'quay-core-2')).toMatchObject({
      bundled: 2,
      speedMbps: 20_000,
      sure: 'named',
    });
    expect(map.links.find((l) => l.b.name === 'quay-cam-1')).toMatchObject({
      sure: 'suggested',
      a: { name: 'quay-sw-1', port: 'port 24' },
    });
  });

  it('draws every feed, from ports, outlets and the recorder', () => {
    const feeds = map.feeds.map((f) => `${f.from.name} ${f.from.port} > ${f.to.name}`).sort();
    const portName = (name: string, port: number): string =>
      name === 'gannet-stk-1' ? `${Math.ceil(port / 8)}/${((port - 1) % 8) + 1}` : `port ${port}`;
    const expected = [
      ...scenarioCables.filter((c) => c.watts).map((c) => `${c.a} ${portName(c.a, c.aPort)} > ${shown(c.b)}`),
      ...Object.entries(scenarioOutlets).flatMap(([strip, labels]) =>
        labels.flatMap((label, i) => (label === '' ? [] : [`${strip} outlet ${i + 1} > ${label}`])),
      ),
      ...[1, 2, 3].map((n) => `quay-rec-1 input ${n} > quay-hold-cam-${n}`),
    ].sort();
    expect(feeds).toEqual(expected);
    expect(map.unknownFeeds).toEqual([]);
    expect(map.devices.filter((d) => d.noUplink)).toEqual([]);
    expect(map.devices.find((d) => d.name === 'sandpiper-cam-1')).toMatchObject({ noFeed: true });
  });

  it('says what goes dark: a switch takes its phones, its base and their handsets; a router its site; a leaf nothing', async () => {
    const { client } = scene.served;
    const dark = async (name: string) => (await client.device(name)).dark.map((d) => `${d.name} ${d.why}`).sort();
    expect(await dark('quay-sw-1')).toEqual(
      [
        'quay-ap-1 power',
        'quay-base-1 power',
        'quay-cam-1 power',
        ...[1, 2, 3].map((n) => `quay-handset-${n} connection`),
        ...[1, 2, 3].map((n) => `quay-phone-${n} power`),
      ].sort(),
    );
    expect(await dark('quay-phone-1')).toEqual([]);
    const vessel = truths(scene.fleet).filter((t) => t.site === 'sandpiper' && t.name !== 'sandpiper-rt-1');
    expect(await dark('sandpiper-rt-1')).toEqual(vessel.map((t) => `${t.name} connection`).sort());
    // Both cores hang on one strip, and that keeps its outlets on while it restarts.
    expect(await dark('quay-pdu-1')).toEqual([]);
    expect((await client.device('quay-wlc-1')).dark.filter((d) => d.why === 'parent')).toHaveLength(11);
  });

  it('takes a stack as one device whose members have serials of their own', async () => {
    const stack = await scene.served.client.device('gannet-stk-1');
    expect(stack.members.map((m) => m.serial)).toHaveLength(3);
    expect(await scene.served.client.device(stack.members[1]!.serial!).catch(() => null)).toBeNull();
    expect(stack.serial).toBe(stack.members[0]!.serial);
  });

  it('reports no change in a second run, and moves no credential from where it worked', async () => {
    const { client } = scene.served;
    const logins = scene.fleet.fixture('dunmoor-locked-1').counters.refusedLogins;
    const again = await discover(client);
    expect(again.counts).toEqual({ new: 0, changed: 0, moved: 0, same: 73, unrecognised: 2 });
    expect(again.silent).toEqual([]);
    // A refused login is not tried again so soon.
    expect(scene.fleet.fixture('dunmoor-locked-1').counters.refusedLogins).toBe(logins);
    expect(again.troubles.find((t) => t.probe === 'SSH login')!.detail).toContain('is not tried again yet');
    const camera = await client.device('quay-cam-1');
    expect(camera.observations.find((o) => o.probe === 'ONVIF')).toMatchObject({ times: 2 });
    expect((await client.deviceHistory('quay-cam-1')).map((h) => h.field)).toEqual(['first seen']);
  });

  it('reports exactly what was moved, silenced and swapped', async () => {
    const { client } = scene.served;
    const { fleet } = scene;
    const moved = fleet.fixture('quay-cam-1');
    const swapped = fleet.fixture('dunmoor-cam-1');
    const silenced = fleet.fixture('eelgate-phone-2');
    const [movedBefore, swappedBefore] = [await client.device('quay-cam-1'), await client.device('dunmoor-cam-1')];
    await Promise.all([moved, swapped, silenced].map((f) => f.stop()));
    moved.facts.address = '127.67.1.28';
    swapped.facts.serial = 'OC40REPLACED';
    swapped.facts.mac = '06:17:4b:ee:00:01';
    await Promise.all([moved.start(), swapped.start()]);

    const ended = await discover(client);
    const found = (await client.discovery(ended.id)).found;
    expect(found.filter((f) => f.what !== 'same').map((f) => [f.what, f.address])).toEqual(
      expect.arrayContaining([
        ['moved', '127.67.1.28'],
        ['new', '127.67.4.21'],
      ]),
    );
    expect(ended.counts).toMatchObject({ new: 1, changed: 0, moved: 1, same: 70 });
    expect(ended.silent.map((s) => s.device).sort()).toEqual([swappedBefore.id, (await client.device('eelgate-phone-2')).id].sort());
    expect((await client.device(movedBefore.id)).address).toBe('127.67.1.28');
    expect((await client.deviceHistory(movedBefore.id))[0]).toMatchObject({
      field: 'address',
      before: '127.67.1.21',
      after: '127.67.1.28',
    });
    const replacement = await client.device('OC40REPLACED');
    expect(replacement.flags).toEqual([expect.objectContaining({ flag: 'took-address', other: swappedBefore.id })]);
    expect((await client.device(swappedBefore.id)).flags).toEqual([expect.objectContaining({ flag: 'displaced', other: replacement.id })]);
    // And a run after that reports nothing new.
    expect((await discover(client)).counts).toEqual({ new: 0, changed: 0, moved: 0, same: 72, unrecognised: 2 });
  });

  it('judges who cuts off whom from where a person says that Barrow stands', async () => {
    const { client } = scene.served;
    await expect(client.setSite('eelgate', { here: 'quay-sw-1' })).rejects.toMatchObject({
      problem: { code: 'device-elsewhere', detail: 'quay-sw-1 stands at quay-house, not at eelgate.' },
    });
    await addImagesAndTargets(client, scene.images);
    const carriedBy = async (name: string): Promise<string> => {
      const { id } = await client.plan({ devices: [name], first: 0, atOnce: 1 });
      const { hazards, remarks } = await client.rollout(id);
      const [group] = hazards.find((h) => h.code === 'cut-off')?.groups ?? [];
      return `${group?.words ?? 'nobody'} | ${remarks.filter((r) => r.startsWith('Who cuts off')).join()}`;
    };
    expect(await carriedBy('eelgate-sw-1')).not.toContain('quay-');
    const site = await client.setSite('eelgate', { here: 'eelgate-sw-1' });
    expect(site.here).toMatchObject({ name: 'eelgate-sw-1', told: true });
    expect(await carriedBy('eelgate-sw-1')).toMatch(/ and \d\d more with it \| Who cuts off whom is seen from eelgate-sw-1/);
    expect((await client.sites()).filter((s) => s.here).map((s) => s.name)).toEqual(['eelgate']);
    expect((await client.setSite('eelgate', { here: null })).here).toBeNull();
    expect(await carriedBy('eelgate-sw-1')).not.toContain('quay-');
  });

  it('tells the neighbours in other networks apart from the addresses of the network', async () => {
    const found = await discover(scene.served.client, ['curlew']);
    expect([found.addresses - found.neighbours, found.neighbours > 0]).toEqual([40, true]);
    const told = await barrow(['discover', 'curlew'], { data: scene.data });
    expect(told.out).toMatch(/^\d+ of \d+ addresses answered \(\d+ of them neighbours in other networks\); /m);
  });

  it('tells what devices show besides: power supplies, a clock that is wrong, who hears whom by radio', async () => {
    const { client } = scene.served;
    await scene.fleet.fault('quay-core-1', 'wrong-clock');
    await discover(client, ['quay-house']);
    await scene.fleet.fault('quay-core-1', 'wrong-clock', false);
    const also = async (name: string) => (await client.device(name)).also.filter((a) => a.what !== 'Room');
    expect((await client.device('quay-sw-1')).also).toEqual([{ what: 'Room', text: '16.0 MiB free when it was asked last', by: 'device' }]);
    expect(await also('quay-rt-1')).toContainEqual({ what: 'Power supplies', text: '2', by: 'device' });
    expect(await also('quay-core-1')).toContainEqual({
      what: 'Clock',
      text: expect.stringMatching(/^[23] h .*ahead$|^3 h ahead$/) as string,
      by: 'device',
    });
    expect(await also('quay-sw-1')).toEqual([]);
    expect(await also('quay-ap-1')).toEqual([{ what: 'Radio beside it', text: 'quay-ap-2, quay-ap-3, quay-ap-4', by: 'device' }]);
    expect(await also('dunmoor-ap-1')).toEqual([{ what: 'Radio beside it', text: 'none: nobody else reaches there', by: 'device' }]);
  });

  it('has who gives what others need go down alone, and not all that reach one place by radio at once', async () => {
    const { client } = scene.served;
    const names = ['quay-sw-1', 'quay-sw-2', 'quay-sw-3'];
    const overlaps = async (): Promise<string[]> => {
      const { id } = await client.plan({ devices: names, first: 0, atOnce: 3 });
      const { runs } = await client.rehearsal(id);
      const spans = runs.map((r) => [r.name, Date.parse(r.downFrom!), Date.parse(r.downUntil!)] as const);
      return spans.flatMap(([a, from, to]) => spans.flatMap(([b, f, t]) => (a < b && from < t && f < to ? [`${a} ${b}`] : []))).sort();
    };
    expect(await overlaps()).toContain('quay-sw-2 quay-sw-3');
    const made = await barrow(
      [
        'device',
        'set',
        'quay-sw-2',
        '--serves',
        'addresses,time',
        '--console',
        'quay-con-1:port 4',
        '--decided-by',
        'the landlord',
        '--licence-until',
        '2026-01-31',
        '--supplies',
        '1',
      ],
      { data: scene.data },
    );
    expect(made).toMatchObject({
      code: 0,
      out: expect.stringContaining('quay-sw-2: console, decidedBy, licenceUntil, serves, supplies set.') as string,
    });
    expect((await overlaps()).filter((pair) => pair.includes('quay-sw-2'))).toEqual([]);
    // What it gives to another site is nothing to these.
    await client.setDevice('quay-sw-2', { servesSites: ['eelgate'] });
    expect(await overlaps()).toContain('quay-sw-2 quay-sw-3');
    await client.setDevice('quay-sw-2', { servesSites: null });
    const { id } = await client.plan({ devices: names, first: 0, atOnce: 3 });
    const found = new Map(
      (await client.rollout(id)).hazards.map((h) => [h.code, h.groups.map((g) => `${g.devices.join(' ')}: ${g.words}`)]),
    );
    expect(found.get('serves-others')![0]).toMatch(/^quay-sw-2: addresses and time for .* and \d+ more: none of them goes down meanwhile$/);
    expect(found.get('decided-elsewhere')).toEqual(['quay-sw-2: ask the landlord']);
    expect(found.get('licence')).toEqual(['quay-sw-2: it ran out on 2026-01-31']);
    expect(found.get('single-supply')).toEqual(['quay-sw-2: and nothing takes over when that does not start again']);
    expect(await client.sheet(id)).toContain('its console: quay-con-1 port 4');
    const map = await client.map();
    expect(map.devices.find((d) => d.name === 'quay-sw-2')).toMatchObject({
      gives: 'addresses and time to its site',
      console: { name: 'quay-con-1', port: 'port 4' },
    });
    const back = await barrow(
      ['device', 'set', 'quay-sw-2', ...['serves', 'console', 'decided-by', 'licence-until', 'supplies'].flatMap((o) => [`--${o}`, ''])],
      { data: scene.data },
    );
    expect(back.code).toBe(0);
    expect((await client.device('quay-sw-2')).also.filter((a) => a.by === 'hand')).toEqual([]);
    expect((await client.deviceHistory('quay-sw-2')).filter((h) => h.field === 'what is told').at(-1)!.after).toBe(
      'Console: quay-con-1:port 4; Gives: addresses and time to its site; Decided by: the landlord; Licence until: 2026-01-31; Power supplies: 1',
    );
  });

  it('refuses what cannot be told of a device, with what may be', async () => {
    const { client } = scene.served;
    const refused = async (device: string, change: object): Promise<string> =>
      client.setDevice(device, change).then(
        () => 'taken',
        (error: { problem: { detail: string } }) => error.problem.detail,
      );
    expect(await refused('quay-ap-1', { radio: ['quay-sw-1'] })).toBe('quay-ap-1: quay-sw-1 is no access point.');
    expect(await refused('quay-ap-1', { radio: ['quay-ap-1'] })).toBe('quay-ap-1: it cannot be its own.');
    expect(await refused('quay-sw-1', { console: 'quay-sw-1:port 1' })).toBe('quay-sw-1 cannot be its own console.');
    expect(await refused('quay-sw-1', { serves: ['dreams'] })).toContain('is one of addresses, names, logins, time, not "dreams"');
    expect(await refused('quay-sw-1', { licenceUntil: 'soon' })).toBe('licenceUntil is no day such as 2027-03-31.');
    const many = await barrow(['device', 'set', 'quay-rt-1', '--supplies', 'many'], { data: scene.data });
    expect(many).toMatchObject({ code: 2, err: expect.stringContaining('--supplies takes a number, not "many".') as string });
    expect((await client.setDevice('quay-ap-1', { radio: ['quay-ap-2'] })).name).toBe('quay-ap-1');
    expect((await client.device('quay-ap-1')).also).toEqual([{ what: 'Radio beside it', text: 'quay-ap-2', by: 'hand' }]);
  });

  it('tells of an image what was compared and who read its notes, and of a site whether it was asked', async () => {
    const { client } = scene.served;
    const codes = async (): Promise<string[]> => {
      const { id } = await client.plan({ devices: ['quay-sw-1'], first: 0, atOnce: 1 });
      return (await client.rollout(id)).hazards.map((h) => h.code);
    };
    const file = scene.images.find((i) => i.endsWith('/tb24-4.3.0.simg'))!;
    const image = (await client.images()).find((i) => i.file === 'tb24-4.3.0.simg')!;
    expect(image.compared).toBeNull();
    expect(await codes()).toEqual(expect.arrayContaining(['digest-untold', 'never-asked']));
    expect((await barrow(['image', 'add', file, '--digest', image.sha256], { data: scene.data })).code).toBe(0);
    expect((await client.image(image.sha256)).compared).toBe('strong');
    await client.setSite('quay-house', { asked: 'no lift, no alarm; the night desk' });
    const { note } = await client.image(image.sha256);
    await client.setNote(image.sha256, { ...note, notes: 'Counters begin anew.' });
    expect(await codes()).toContain('notes-unread');
    const read = await barrow(['image', 'read', image.file], { data: scene.data });
    expect(read.out).toMatch(/^Counters begin anew\.\n\ntb24-4\.3\.0\.simg: kept as read by /);
    const left = await codes();
    for (const code of ['digest-untold', 'never-asked', 'notes-unread']) expect(left).not.toContain(code);
    // What reads otherwise was read by nobody yet.
    await client.setNote(image.sha256, { ...note, notes: 'Counters and logs begin anew.' });
    expect(await codes()).toContain('notes-unread');
  });

  it('rehearses how long images are under way over a slow link, and who shares it', async () => {
    const { client } = scene.served;
    const lasts = async (devices: string[]): Promise<number> => {
      const { id } = await client.plan({ devices, first: 0, atOnce: 3 });
      const { beginsAt, endsAt } = await client.rehearsal(id);
      return Date.parse(endsAt) - Date.parse(beginsAt);
    };
    const [one, three] = [['eelgate-sw-1'], ['eelgate-sw-1', 'eelgate-sw-2', 'eelgate-sw-3']];
    const [fast, fastAll] = [await lasts(one), await lasts(three)];
    await client.setSite('eelgate', { linkKilobits: 8 });
    const [slow, slowAll] = [await lasts(one), await lasts(three)];
    expect(slow).toBeGreaterThan(fast);
    // Three at once take three times as long as one, and not as long.
    expect(slowAll - fastAll).toBeGreaterThan(2 * (slow - fast));
    await client.setSite('eelgate', { linkKilobits: null });
  });
});
