import { request } from 'node:http';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, serve, type Served } from './support/service.js';

/** Switches and cameras of three sites, entered from a list: no device is asked for any of this. */
const list = Array.from({ length: 300 }, (_, i) => ({
  name: `${['quay', 'eelgate', 'gannet'][i % 3]}-${i % 2 ? 'sw' : 'cam'}-${i}`,
  site: ['quay-house', 'eelgate', 'gannet-point'][i % 3]!,
  kind: i % 2 ? 'switch' : 'camera',
  family: i % 2 ? 'tarnbrook-access' : 'owlpane-camera',
  model: i % 2 ? 'TB-2424' : 'OC-400',
  serial: `S${1000 + i}`,
  firmware: i % 2 ? ['4.2.1', '4.10.0', '4.3.0'][(i >> 1) % 3]! : '2.9.0',
  parent: i === 9 ? 'quay-sw-3' : '',
}));

describe('lists of devices', () => {
  const data = folder();
  let served: Served;
  beforeAll(async () => {
    served = await serve(data.path);
    const taken = await served.client.importDevices('json', JSON.stringify(list), false);
    expect(taken.rows.filter((r) => r.what === 'refused')).toEqual([]);
    expect(taken.written).toBe(300);
    await served.client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
  });
  afterAll(async () => {
    await served?.stop();
    data.remove();
  });

  it('are put in order by any column, as people count, both ways, and handed out in parts', async () => {
    const { items, total } = await served.client.devicePage({ sort: 'firmware', kind: 'switch', limit: 300 });
    expect(total).toBe(150);
    const versions = items.map((d) => d.firmware);
    expect([...new Set(versions)]).toEqual(['4.2.1', '4.3.0', '4.10.0']);
    const down = await served.client.devicePage({ sort: '-firmware', kind: 'switch', limit: 300 });
    expect(down.items.map((d) => d.id)).toEqual(items.map((d) => d.id).reverse());
    const part = await served.client.devicePage({ sort: 'firmware', kind: 'switch', offset: 40, limit: 20 });
    expect(part.items.map((d) => d.id)).toEqual(items.slice(40, 60).map((d) => d.id));
    expect((await served.client.devicePage({ offset: 1000 })).items).toEqual([]);
    await expect(served.client.devicePage({ sort: 'colour' })).rejects.toMatchObject({ problem: { status: 400 } });
    // What has changed stands elsewhere at once.
    const first = down.items.at(-1)!;
    await served.client.setDevice(first.id, { name: 'aaa' });
    expect((await served.client.devicePage({ sort: 'name', limit: 1 })).items[0]!.id).toBe(first.id);
    await served.client.setDevice(first.id, { name: first.name });
    expect((await served.client.devicePage({ sort: 'name', limit: 1 })).items[0]!.id).not.toBe(first.id);
  });

  it('are searched by several words in any order, the name of what a device is handled through among them', async () => {
    const found = async (text: string) => (await served.client.devicePage({ text, limit: 300 })).items.map((d) => d.name);
    expect(await found('S1100 EELGATE')).toEqual(['eelgate-cam-100']);
    expect(await found('cam quay-sw-3')).toEqual([]);
    expect(await found('gannet 2.9.0 s1002')).toEqual(['gannet-cam-2']);
    expect(await found('quay-sw-9 quay-sw-3')).toEqual(['quay-sw-9']);
  });

  it('are counted, all of them and those that fit', async () => {
    const { all, fitting } = await served.client.deviceCounts({ site: 'eelgate' });
    expect(all).toMatchObject({ total: 300, sites: ['eelgate', 'gannet-point', 'quay-house'], kinds: ['camera', 'switch'] });
    expect(all.standings.reduce((sum, s) => sum + s.devices, 0)).toBe(300);
    expect(fitting.total).toBe(100);
    expect(fitting.targeted).toBe(50);
    // No image is there, so that nobody may be planned.
    expect(fitting).toMatchObject({ behind: 0, plannable: 0 });
    expect((await served.client.devicePage({ plannable: true })).total).toBe(0);
  });

  it('are told by name only, to choose them, in the order in which they are shown', async () => {
    const query = { kind: 'camera', sort: '-serial' };
    const names = await served.client.deviceNames(query);
    expect(names).toHaveLength(150);
    const shown = (await served.client.devicePage({ ...query, offset: 10, limit: 5 })).items.map((d) => d.id);
    expect((await served.client.deviceNames({ ...query, offset: 10, limit: 5 })).map((d) => d.id)).toEqual(shown);
    expect(Object.keys(names[0]!)).toEqual(['id', 'name', 'network']);
  });

  it('are grouped by how they stand, and narrowed to a group', async () => {
    const groups = await served.client.standingGroups();
    expect(groups.reduce((sum, g) => sum + g.devices, 0)).toBe(300);
    const there = groups.find((g) => g.family === 'tarnbrook-access' && g.firmware === '4.3.0')!;
    expect(there).toMatchObject({ target: '4.3.0', distance: 'at target', standing: 'at-target', devices: 50 });
    const found = await served.client.devicePage({ group: there.group, limit: 100 });
    expect(found.total).toBe(50);
    expect(new Set(found.items.map((d) => d.firmware))).toEqual(new Set(['4.3.0']));
    expect((await served.client.devicePage({ distance: 'at target' })).total).toBe(50);
    expect((await served.client.devicePage({ distance: 'no target' })).total).toBe(150);
  });

  it('travel compressed when they are long, and as they are when they are short', async () => {
    const encoding = (path: string): Promise<string | undefined> =>
      new Promise((resolve, reject) => {
        const headers = { authorization: `Bearer ${served.token}`, 'accept-encoding': 'gzip' };
        request(`${served.url}/api/v1${path}`, { headers }, (response) => {
          response.resume();
          resolve(response.headers['content-encoding']);
        })
          .on('error', reject)
          .end();
      });
    expect(await encoding('/devices?limit=100')).toBe('gzip');
    expect(await encoding('/device-counts')).toBeUndefined();
  });

  it('take a tag more or less without undoing what somebody else has set', async () => {
    const { id } = (await served.client.devicePage({ text: 'gannet-cam-2 s1002' })).items[0]!;
    await served.client.setDevice(id, { tags: ['lab', 'roof'] });
    await served.client.setDevice(id, { addTags: ['quiet', ' lab '] });
    expect((await served.client.device(id)).tags).toEqual(['lab', 'quiet', 'roof']);
    await served.client.setDevice(id, { removeTags: ['lab', 'never'] });
    expect((await served.client.device(id)).tags).toEqual(['quiet', 'roof']);
  });

  it('may say of a device in them which family it is of, and none that is not known', async () => {
    const [one] = (await served.client.devicePage({ text: 'gannet-cam-2 s1002' })).items;
    const rows = [
      { id: one!.id, family: 'tollard-desk' },
      { name: 'new-1', site: 'eelgate', family: 'tollard-desks' },
    ];
    const { rows: told } = await served.client.importDevices('json', JSON.stringify(rows), true);
    expect(told.map((t) => [t.what, t.detail.join()])).toEqual([
      ['changed', 'family owlpane-camera → tollard-desk'],
      ['refused', 'there is no family tollard-desks; is tollard-desk meant?'],
    ]);
  });
});
