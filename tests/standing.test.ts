import { readFileSync } from 'node:fs';
import { writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { BarrowClient } from '@barrow/client';
import type { AdvisoryDetail, AdvisoryView, Device, RankedFleet, Rollout, TargetPreview } from '@barrow/core';
import { writeScenarioLibrary, type Library } from '@barrow/standins';
import { demoTargets, Loaded, loadSecondDay } from '../packages/cli/dist/demo/data.js';
import { barrow } from './support/service.js';
import { setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

const network = 76;

/** By hand: who stands where, and by which images. `name@` is taken by that partner first. */
const table: readonly [devices: string, standing: string, path: string][] = [
  ['quay-sw-1 quay-sw-2 quay-sw-3 quay-sw-4 eelgate-sw-1 eelgate-sw-2 eelgate-sw-3 gannet-sw-1 gannet-sw-2', 'behind', 'tb24-4.3.0.simg'],
  // Board B1 takes a file of its own, and so do the ruggedised twins on board.
  ['dunmoor-sw-1', 'behind', 'tb24b-4.3.0.simg'],
  ['sandpiper-sw-1 curlew-sw-1', 'behind', 'tb24r-4.3.0.simg'],
  ['quay-rt-1 dunmoor-rt-1', 'behind', 'wr110-R7.04.simg'],
  ['quay-core-1 quay-core-2', 'behind', 'tb48-loader-2.1.simg tb48-6.2.0'],
  ['gannet-stk-1', 'behind', 'tb36-5.9.0.simg tb36-6.1.2.simg'],
  ['eelgate-rt-1 gannet-rt-1 sandpiper-rt-1 curlew-rt-1', 'behind', 'wr60-R7.90.simg wr60-L1.2.simg'],
  ['quay-wlc-1', 'behind', 'fc20-9.6.0.simg'],
  [
    'quay-ap-1 quay-ap-2 quay-ap-3 quay-ap-4 eelgate-ap-1 eelgate-ap-2 dunmoor-ap-1',
    'behind',
    'quay-wlc-1@fc20-9.6.0.simg fa310-9.6.0.simg',
  ],
  ['gannet-ap-1 gannet-ap-2 sandpiper-ap-1 curlew-ap-1', 'behind', 'fa110-9.4.5.simg'],
  ['quay-rec-1', 'behind', 'or16-3.9.1.simg'],
  ['quay-cam-1 quay-cam-2 eelgate-cam-1 dunmoor-cam-1', 'behind', 'oc400r2-2.12.0.simg'],
  ['quay-hold-cam-1 quay-hold-cam-2', 'behind', 'quay-rec-1@or16-3.9.1.simg oc400r2-2.12.0.simg'],
  ['quay-cam-3 eelgate-cam-2 dunmoor-cam-2', 'blocked', ''],
  ['sandpiper-cam-1 gannet-cam-1', 'at-target', ''],
  ['quay-hold-cam-3 127.76.4.15', 'unknown', ''],
  [
    [
      ...[1, 2, 3, 4, 5, 6].map((n) => `quay-phone-${n}`),
      ...[1, 2, 3, 4].map((n) => `eelgate-phone-${n}`),
      ...[1, 2, 3].map((n) => `gannet-phone-${n}`),
      'dunmoor-phone-1 dunmoor-phone-2 sandpiper-phone-1 curlew-phone-1',
    ].join(' '),
    'behind',
    'd40-2.9.0.simg d40-3.0.2.simg',
  ],
  ['quay-base-1', 'behind', 'c10-1.7.0.simg'],
  ['quay-handset-1 quay-handset-2 quay-handset-3', 'behind', 'quay-base-1@c10-1.7.0.simg h10-1.6.0.simg'],
  ['quay-pdu-1 dunmoor-pdu-1', 'behind', 'sp8-1.13.img'],
  ['quay-con-1', 'ahead', ''],
  ['gannet-odd-1 127.76.6.25', 'no-target', ''],
];

class Killed extends Error {}

/** A client whose program is gone after so many calls. */
function killedAfter(calls: number, client: BarrowClient): BarrowClient {
  let left = calls;
  return new Proxy(client, {
    get: (whole, name) => {
      const one = Reflect.get(whole, name) as unknown;
      if (typeof one !== 'function') return one;
      return (...args: unknown[]) => {
        if (left-- <= 0) throw new Killed();
        return (one as (...args: unknown[]) => unknown).apply(whole, args);
      };
    },
  });
}

describe('the standing of the demo fleet', () => {
  let scene: Scene;
  let kills = 0;
  let library: Library;
  const run = (args: string[]) => barrow(args, { data: scene.data });
  const json = async <T>(args: string[]): Promise<T> => {
    const ran = await run([...args, '--json']);
    expect(ran.err, args.join(' ')).toBe('');
    return ran.json<T>();
  };
  const device = (name: string) => json<Device>(['device', 'show', name]);
  const pathText = (d: Device) => d.path.map((p) => `${p.on ? `${p.on.name}@` : ''}${p.file}`).join(' ');
  beforeAll(async () => {
    scene = await setScene({ network, whole: true });
    library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    await addWholeNetworks(scene.served.client, network);
    const good = scene.images.filter((i) => !/\/(damaged|other)\//.test(i));
    // Killed over and over, each time a little later, it goes on where it was, and lacks nothing in the end.
    for (let calls = 3; ; calls *= 3)
      try {
        await loadSecondDay(killedAfter(calls, scene.served.client), new Loaded(scene.data), good, library);
        break;
      } catch (error) {
        if (!(error instanceof Killed)) throw error;
        kills += 1;
      }
  });
  afterAll(() => scene?.end());

  it('is loaded whole by a demo that was killed again and again, and only once', async () => {
    expect(kills).toBeGreaterThan(2);
    const target = (await scene.served.client.targets()).find((t) => t.family === 'stavewell-console')!;
    await scene.served.client.removeTarget(target.id);
    await loadSecondDay(killedAfter(0, scene.served.client), new Loaded(scene.data), [], library);
    expect(await scene.served.client.targets()).toHaveLength(demoTargets.length - 1);
    await scene.served.client.setTarget(demoTargets.at(-1)!);
  });

  it('is what the table says, for every device', async () => {
    const all = await json<Device[]>(['standing']);
    const expected = new Map(table.flatMap(([names, standing, path]) => names.split(' ').map((n) => [n, `${standing} ${path}`] as const)));
    expect(Object.fromEntries(all.map((d) => [d.name, `${d.standing} ${pathText(d)}`]))).toEqual(Object.fromEntries(expected));
    expect(all).toHaveLength(73);
  });

  it('says what is lost and dropped on the way, what it costs, and what a person has to look at', async () => {
    const stack = await device('gannet-stk-1');
    expect(stack.path[1]).toMatchObject({ from: '5.9.0', resets: [] });
    expect(stack.path[1]!.notices).toEqual(['afterwards there is no SNMP v2c']);
    expect(stack.pathReboots).toBe(2);
    expect((await device('curlew-rt-1')).path.map((p) => p.resets)).toEqual([[], ['logins']]);
    expect((await device('quay-cam-1')).path[0]!.notices).toContain(
      'the viewing program on the bridge must be 5.2 or newer: look there, Barrow cannot',
    );
    // The recorder restarts twice, the camera once.
    expect((await device('quay-hold-cam-1')).pathReboots).toBe(3);
  });

  it('names the missing link, what would close it, and what comes nearest', async () => {
    const old = await device('quay-cam-3');
    expect(old.standingReason).toBe(
      'nothing in the store takes 2.10.4 (the furthest that 2.9.0 can go) to 2.11.0 or newer, from where oc400r1-2.12.0.simg goes on; ' +
        'nearest is oc400r2-2.11.3.simg: hardware revision: image is for R2, device is R1',
    );
    expect(old.lacking).toBe('an image for OC-400, hardware R1 that accepts 2.10.4 and brings it to 2.11.0 or newer');
    const shown = await run(['standing']);
    expect(shown.out).toContain('The store lacks:\n  an image for OC-400, hardware R1');
    expect(shown.out).toContain('(dunmoor-cam-2, eelgate-cam-2, quay-cam-3)');
  });

  it('keeps the fleet by family and version, with spellings of one version as one', async () => {
    const summary = await scene.served.client.standing();
    expect(summary.counts).toMatchObject({ behind: 63, blocked: 3, ahead: 1, unknown: 2, 'at-target': 2, 'no-target': 2 });
    const cameras = summary.families.find((f) => f.family === 'owlpane-camera')!;
    expect(cameras.versions.map((v) => [v.version, v.devices, v.targetOf])).toEqual([
      [null, 1, 0],
      ['1.5.0', 0, 1],
      ['2.9.0', 3, 0],
      ['2.11.3', 8, 2],
      ['2.12.0', 0, 9],
    ]);
    expect(summary.lacking).toMatchObject([{ devices: 3 }]);
  });

  it('tells by which rule a target is what it is; a pin goes before every rule, with its reason and its day', async () => {
    expect((await device('sandpiper-cam-1')).targetWhy).toBe('model OC-400, site sandpiper, before one rule that says less');
    expect(await device('gannet-cam-1')).toMatchObject({
      pin: { version: '2.11.3', reason: 'its picture is evidence in a claim', askAgain: '2027-03-31', due: false },
      targetWhy: expect.stringContaining('without the pin it would be 2.12.0') as string,
    });
    expect((await run(['target', 'unpin', 'gannet-cam-1'])).code).toBe(0);
    expect(pathText(await device('gannet-cam-1'))).toBe('oc400r2-2.12.0.simg');
    expect((await run(['target', 'pin', 'gannet-cam-1', '--reason', 'evidence', '--ask-again', '2020-01-01'])).err).toContain(
      '2020-01-01 is past',
    );
    const pinned = await run(['target', 'pin', 'gannet-cam-1', '--reason', 'evidence', '--ask-again', '2027-03-31']);
    expect(pinned.out).toBe('gannet-cam-1 stays at 2.11.3 until 2027-03-31: evidence.\n');
    expect(await json(['target', 'pins'])).toMatchObject([{ name: 'gannet-cam-1', version: '2.11.3', due: false }]);
  });

  it('lets no partner be moved that is pinned, and says so at those who wait for it', async () => {
    await run(['target', 'pin', 'quay-wlc-1', '--reason', 'the winter timetable', '--ask-again', '2027-02-28']);
    expect(await device('quay-ap-1')).toMatchObject({
      standing: 'blocked',
      standingReason: expect.stringContaining(
        'quay-wlc-1 runs 9.4.1, and 9.6.0 is needed there; it is pinned: the winter timetable',
      ) as string,
    });
    await run(['target', 'unpin', 'quay-wlc-1']);
    expect((await device('quay-ap-1')).standing).toBe('behind');
  });

  it('narrows a target by tag and revision, and stops where two say as much and differ', async () => {
    const { client } = scene.served;
    await run(['device', 'set', 'quay-sw-1', '--tag', 'pilot', '--tag', 'winter']);
    const tagged = await client.setTarget({ family: 'tarnbrook-access', version: '4.2.1', tag: 'pilot' });
    expect(await device('quay-sw-1')).toMatchObject({ standing: 'at-target', targetWhy: 'tag pilot, before one rule that says less' });
    const rival = await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0', tag: 'winter' });
    expect(await device('quay-sw-1')).toMatchObject({
      standing: 'blocked',
      standingReason: expect.stringContaining('two targets say as much as each other') as string,
    });
    await client.removeTarget(tagged.id);
    await client.removeTarget(rival.id);
    const set = await run(['target', 'set', 'tarnbrook-access', '4.2.1', '--revision', 'B1']);
    expect(set.out).toBe('Target 4.2.1 for 1 device of tarnbrook-access: hardware revision B1.\n');
    expect((await device('dunmoor-sw-1')).standing).toBe('at-target');
    const [rule] = (await client.targets()).filter((t) => t.hardwareRevision === 'B1');
    await client.removeTarget(rule!.id);
    expect((await run(['target', 'set', 'tarnbrook-access', '4.2.1', '--revision', 'Z9'])).err).toContain('"Z9" is not known');
  });

  it('tells what would follow from a target before it is set, and sets nothing', async () => {
    const { client } = scene.served;
    const before = [await client.targets(), (await client.devices()).map((d) => [d.name, d.target, d.standing])];
    const asked = ['target', 'set', 'tarnbrook-access', '4.3.0', '--preview'];
    const told = await run(asked);
    expect(told.code).toBe(0);
    const [all, ...rest] = told.out.trim().split('\n');
    expect(all).toMatch(/^4\.3\.0 for 13 devices \(every device of the family\): 12 take one image, 1 cannot get there\.$/);
    expect(rest).toEqual([`127.${network}.4.15: its firmware version has not been read.`, 'Nothing was set.']);
    // As it says, so it stands once it is set.
    const phones = await json<TargetPreview>(['target', 'set', 'tollard-desk', '3.0.2', '--preview']);
    const set = (await client.devices()).filter((d) => d.family === 'tollard-desk');
    expect([phones.devices, phones.moreImages]).toEqual([
      set.length,
      set.filter((d) => d.standing === 'behind' && d.path.length > 1).length,
    ]);
    const slip = await json<TargetPreview>(['target', 'set', 'tarnbrook-access', '9.9.9', '--preview']);
    expect(slip.notReached[0]).toMatchObject({ devices: 12, why: expect.stringContaining('no image of 9.9.9') as string });
    expect(slip.remarks).toEqual([expect.stringContaining('no image has version 9.9.9') as string]);
    // A pin goes before it, and a narrower rule too.
    await run(['target', 'pin', 'quay-sw-2', '--reason', 'printers', '--ask-again', '2031-01-31']);
    const rule = await client.setTarget({ family: 'tarnbrook-access', version: '4.2.8', device: 'quay-sw-3' });
    expect(await json(asked)).toMatchObject({ devices: 12, oneImage: 10, pinned: 1 });
    await client.removeTarget(rule.id);
    await run(['target', 'unpin', 'quay-sw-2']);
    // What could not be set cannot be looked at either.
    expect((await run(['target', 'set', 'tarnbrook-access', 'seven', '--preview'])).code).toBe(2);
    expect([await client.targets(), (await client.devices()).map((d) => [d.name, d.target, d.standing])]).toEqual(before);
  });

  it('sets and compares a set of versions at once, or none of it', async () => {
    const { client } = scene.served;
    const before = (await client.targets()).map(({ family, version, scope }) => [family, version, scope]);
    const file = join(scene.data, '..', 'autumn.yaml');
    const written = (lines: readonly string[]): Promise<void> =>
      writeFile(file, ['set: autumn', 'versions:', ...lines.map((l) => `  ${l}`)].join('\n'));
    await written(['tarnbrook-access: 4.3.0', 'tollard-desk: [{ version: 3.0.2 }, { version: 2.9.0, site: gannet-point }]']);
    // As if its rules were the only ones: compared with what devices run, whatever their targets say.
    const seen = await run(['target', 'compare', file]);
    expect(seen.code).toBe(1);
    expect(seen.out).toMatch(/every device of the family +13 +0 +12 +1 +all\n/);
    expect(seen.out).toMatch(/2\.9\.0 +site gannet-point +3 +0 +3 +0 +none\n/);
    expect(seen.out).toContain(`its firmware version has not been read (127.${network}.4.15)`);
    expect(seen.out).toMatch(/The set says nothing of .*\(\d+\)/);
    expect(seen.out).toMatch(/\n0 of 30 devices are there\.\n$/);
    // What is at fault is told whole, and nothing of it is set.
    await written(['tarnbrook-acces: 4.3.0', 'tollard-desk: seven', 'tarnbrook-access: [{ version: 4.3.0 }, { version: 4.2.1 }]']);
    const refused = await run(['target', 'set-all', file]);
    expect(refused.code).toBe(2);
    for (const part of ['"tarnbrook-acces" is not known', 'tollard-desk seven: ', 'two versions for the same devices'])
      expect(refused.err).toContain(part);
    expect((await client.targets()).map(({ family, version, scope }) => [family, version, scope])).toEqual(before);
    await written(['tarnbrook-access: [{ version: 4.3.0, tag: lab }, { version: 4.2.1, hardwareRevision: B1 }]']);
    expect((await run(['target', 'set-all', file])).out).toContain('2 targets of the set autumn:');
    expect((await run(['target', 'compare', file])).out).toMatch(/hardware revision B1 +1 +1 +0 +0 +all\n/);
    // Written down as they are, they are a set that can be set again.
    const kept = await run(['target', 'write', '--name', 'as they were']);
    await writeFile(file, kept.out);
    expect((await run(['target', 'set-all', file])).code).toBe(0);
    expect((await run(['target', 'write', '--name', 'as they were'])).out).toBe(kept.out);
    for (const rule of await client.targets()) if (rule.tag !== null || rule.hardwareRevision === 'B1') await client.removeTarget(rule.id);
    expect((await client.targets()).map(({ family, version, scope }) => [family, version, scope]).sort()).toEqual(before.sort());
  });

  it('says when no image has the version of a target, and which one is probably meant', async () => {
    const asked = ['target', 'set', 'tarnbrook-access', '4.33.0', '--device', 'quay-sw-2'];
    const slip = await run(asked);
    expect([slip.code, slip.err]).toEqual([4, expect.stringContaining('no image has version 4.33.0: is 4.3.0 meant?') as string]);
    expect((await run(['target', 'list'])).out).not.toContain('4.33.0');
    const later = await run([...asked, '--image-later']);
    expect([later.code, later.out]).toEqual([0, expect.stringContaining('! no image has version 4.33.0: is 4.3.0 meant?') as string]);
    expect((await run(['target', 'list'])).out).toMatch(/4\.33\.0 \(no image\) +quay-sw-2/);
    const [rule] = (await scene.served.client.targets()).filter((t) => t.remarks.length > 0);
    await scene.served.client.removeTarget(rule!.id);
    const nowhere = await run(['target', 'set', 'tarnbrook-access', '4.3.0', '--site', 'quay-hause']);
    expect([nowhere.code, nowhere.err]).toEqual([2, expect.stringContaining('Is quay-house meant?') as string]);
  });

  it('asks before it removes an image that devices need', async () => {
    const asked = await run(['image', 'remove', 'tb36-6.1.2.simg']);
    expect([asked.code, asked.err]).toEqual([4, expect.stringContaining('needs tb36-6.1.2.simg to reach its target') as string]);
    expect((await run(['image', 'list'])).out).toContain('tb36-6.1.2.simg');
  });

  it('takes no beta for a release', async () => {
    const refused = await run(['target', 'set', 'tarnbrook-access', '4.4.0', '--device', 'quay-sw-2']);
    expect([refused.code, refused.err]).toEqual([4, expect.stringContaining('4.4.0 is here only as a beta (tb24-4.4.0.simg)') as string]);
    expect((await run(['target', 'set', 'tarnbrook-access', '4.4.0', '--device', 'quay-sw-2', '--accept-unreleased'])).code).toBe(0);
    expect(pathText(await device('quay-sw-2'))).toBe('tb24-4.4.0.simg');
    const [rule] = (await scene.served.client.targets()).filter((t) => t.acceptUnreleased);
    await scene.served.client.removeTarget(rule!.id);
  });

  it('never goes down by itself, and only by an image that allows it', async () => {
    const { client } = scene.served;
    const sw = (await device('quay-sw-3')).id;
    const rule = await client.setTarget({ family: 'tarnbrook-access', version: '4.1.0', device: sw });
    expect((await device('quay-sw-3')).standing).toBe('ahead');
    const plan = (args: string[]) => run(['rollout', 'plan', 'quay-sw-3', ...args, '--json']);
    expect((await plan([])).out).toContain('going down is a decision of its own');
    expect((await plan(['--older'])).out).toContain('the store has no image of 4.1.0');
    await client.removeTarget(rule.id);
  });

  it('plans the whole of a longer way, with what each image resets, and leaves out what waits for a partner', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-1', 'quay-ap-1', 'quay-core-1', 'quay-phone-1', 'quay-base-1'] });
    expect(plan.runs.map((r) => [r.name, r.file, r.notices.filter((n) => !n.startsWith('carries'))]).sort()).toEqual([
      ['quay-core-1', 'tb48-6.2.0', ['boot loader 2.1 → 6.2.0, each verified before the next']],
      ['quay-phone-1', 'd40-3.0.2.simg', ['2.9.0 → 3.0.2, each verified before the next', '3.0.2: settings are reset']],
      ['quay-sw-1', 'tb24-4.3.0.simg', []],
    ]);
    expect(plan.hazards.filter((h) => h.code !== 'cut-off').map((h) => [h.code, h.groups.map((g) => g.devices)])).toEqual([
      ['resets', [['quay-phone-1']]],
      ['no-redundancy', [['quay-core-1']]],
      ['never-asked', [['quay-phone-1', 'quay-core-1', 'quay-sw-1']]],
      ['notes-unread', [['quay-phone-1'], ['quay-core-1']]],
      ['digest-untold', [['quay-sw-1']]],
      ['no-backup', [['quay-phone-1']]],
    ]);
    expect(Object.fromEntries(plan.leftOut.map((l) => [l.name, l.reason]))).toEqual({
      'quay-ap-1': 'quay-wlc-1 has to take fc20-9.6.0.simg first: plan it in the same rollout',
      'quay-base-1': 'family tollard-base can be recorded, and Barrow cannot upgrade it yet',
    });
    expect(await device('quay-base-1')).toMatchObject({
      standing: 'behind',
      standingReason: expect.stringMatching(/^Barrow cannot upgrade .+ yet: upgrade it by hand$/) as string,
    });
    expect((await device('quay-sw-1')).standingReason).toBeNull();
    expect((await run(['standing'])).out).toMatch(/^quay-base-1 .*Barrow cannot upgrade/m);
    // A required step: 4.3.0 is withheld from everything below 4.2.8, which is withdrawn, until that is taken back.
    const { note } = await client.image('tb24-4.3.0.simg');
    await client.setNote('tb24-4.3.0.simg', { ...note, from: [{ atLeast: '4.2.8' }], resets: [{ what: 'logins' }] });
    expect((await device('quay-sw-1')).standingReason).toContain('nearest is tb24-4.2.8.simg: it is withdrawn: loses its address');
    await run(['image', 'withdraw', 'tb24-4.2.8.simg', '--undo']);
    const stepped = await client.plan({ devices: ['quay-sw-1'] });
    expect(stepped.runs[0]).toMatchObject({
      file: 'tb24-4.3.0.simg',
      target: '4.3.0',
      notices: ['4.2.8 → 4.3.0, each verified before the next', '4.3.0: logins are reset'],
    });
    const told = await json<Rollout>(['rollout', 'show', stepped.id]);
    expect(told.runs[0]!.notices).toEqual(stepped.runs[0]!.notices);
    expect((await run(['rollout', 'show', stepped.id])).out).toContain('4.2.8 → 4.3.0, each verified before the next');
    await run(['image', 'withdraw', 'tb24-4.2.8.simg', '--why', 'loses its address after a loss of power']);
    await client.setNote('tb24-4.3.0.simg', note);
  });

  it('tells which versions would stand beside each other that are not meant to, and lets one wait where that mends it', async () => {
    const { client } = scene.served;
    const { note } = await client.image('fa110-9.4.5.simg');
    const mismatches = async (devices: string[]) =>
      (await client.plan({ devices })).hazards
        .filter((h) => h.code === 'mismatch')
        .flatMap((h) => h.groups.map((g) => [g.devices, g.words]));
    const both = ['quay-wlc-1', 'gannet-ap-1'];
    expect(await mismatches(both)).toEqual([]);
    const [partner] = note.needs.partners;
    await client.setNote('fa110-9.4.5.simg', { ...note, needs: { ...note.needs, partners: [{ ...partner!, upTo: '9.5.2' }] } });
    expect(await mismatches(both)).toEqual([
      [['gannet-ap-1'], 'gannet-ap-1 with 9.4.5 beside quay-wlc-1 with 9.6.0, where 9.4.0 or newer, 9.5.2 or older is meant'],
    ]);
    expect(await mismatches(['gannet-ap-1'])).toEqual([]);
    await client.setNote('fa110-9.4.5.simg', note);
  });

  describe('and advisories', () => {
    it('touch the devices of confirmed products, and tell how far the fixing version is', async () => {
      const all = await json<AdvisoryView[]>(['advisory', 'list']);
      expect(Object.fromEntries(all.map((a) => [a.id, [a.devices.exposed, a.unmapped]]))).toEqual({
        'TBK-2026-004': [13, 0],
        'TLD-2026-011': [17, 0],
        'OWP-2026-002': [11, 1],
      });
      const cameras = await json<AdvisoryDetail>(['advisory', 'show', 'OWP-2026-002']);
      const of = (name: string) => cameras.exposed.find((d) => d.name === name);
      expect(of('quay-cam-1')).toMatchObject({ exposure: 'exposed', score: 9.1, fixedBy: { version: '2.12.0', hops: 1, inTarget: true } });
      expect(of('quay-hold-cam-1')?.fixedBy).toMatchObject({ hops: 2, reboots: 3 });
      expect(of('quay-cam-3')).toMatchObject({
        fixedBy: null,
        noFix: expect.stringContaining('nothing in the store takes 2.10.4') as string,
      });
      // Its target keeps it where it is exposed.
      expect(of('sandpiper-cam-1')?.fixedBy).toMatchObject({ hops: 1, inTarget: false });
      const switches = await json<AdvisoryDetail>(['advisory', 'show', 'TBK-2026-004']);
      expect(switches.exposed.filter((d) => d.exposure === 'under-investigation').map((d) => d.name)).toEqual([
        'quay-core-1',
        'quay-core-2',
      ]);
      expect(switches.exposed.find((d) => d.name === '127.76.4.15')).toBeUndefined();
    });

    it('rank the fleet: gravest first, then the nearer way out', async () => {
      const ranked = await json<RankedFleet['items']>(['advisory', 'rank']);
      expect(ranked).toHaveLength(41);
      expect(ranked.map((d) => d.score)).toEqual([...ranked.map((d) => d.score)].sort((a, b) => b! - a!));
      expect(ranked.slice(8, 11).map((d) => [d.score, d.hops])).toEqual([
        [9.1, null],
        [9.1, null],
        [9.1, null],
      ]);
    });

    it('ask once what a product is, propose it, and keep the answer for the next advisory', async () => {
      const cameras = await json<AdvisoryDetail>(['advisory', 'show', 'OWP-2026-002']);
      expect(cameras.products.find((p) => p.product === 'OW-Desk viewing program')).toMatchObject({ mapping: null, proposal: null });
      expect((await run(['advisory', 'map', 'Owlpane', 'OW-Desk viewing program', '--not-here'])).code).toBe(0);
      expect((await json<AdvisoryView[]>(['advisory', 'list'])).find((a) => a.id === 'OWP-2026-002')?.unmapped).toBe(0);
      expect((await run(['advisory', 'map', 'Owlpane', 'OC-400 cameras', '--not-here'])).code).toBe(0);
      expect((await json<AdvisoryDetail>(['advisory', 'show', 'OWP-2026-002'])).exposed).toEqual([]);
      // A later edition takes the place of the earlier one; an earlier one is refused; the mapping stays.
      const text = readFileSync(
        library.advisories.find((f) => f.includes('owp'))!,
        'utf8',
      );
      const later = JSON.parse(text) as { document: { tracking: { version: string; current_release_date: string } } };
      later.document.tracking = { ...later.document.tracking, version: '2', current_release_date: '2026-11-01T00:00:00Z' };
      expect(await scene.served.client.addAdvisory(JSON.stringify(later))).toMatchObject({ isNew: false, edition: '2', unmapped: 0 });
      await expect(scene.served.client.addAdvisory(text)).rejects.toMatchObject({ problem: { code: 'advisory-older' } });
      expect((await run(['advisory', 'map', 'Owlpane', 'OC-400 cameras', '--family', 'owlpane-camera', '--model', 'OC-400'])).code).toBe(0);
    });

    it.each([
      ['no JSON', '{', 'it is not JSON'],
      ['another version of CSAF', '{"document":{"csaf_version":"1.0"}}', '/document/'],
      ['nothing of the kind', '[]', 'expected object'],
    ])('refuse %s', async (_, text, why) => {
      await expect(scene.served.client.addAdvisory(text)).rejects.toMatchObject({
        problem: { code: 'advisory-unreadable', detail: expect.stringContaining(why) as string },
      });
    });

    it('stand on the page of the image that mends them, and so does what it breaks', async () => {
      const image = await scene.served.client.image('oc400r2-2.12.0.simg');
      expect(image).toMatchObject({
        fits: 8,
        runs: 0,
        onPaths: 6,
        fixes: [{ text: 'OWP-2026-002', advisory: 'OWP-2026-002', exposed: 8 }],
      });
      expect(image.breaks).toMatchObject([{ text: 'no streaming without a login afterwards', devices: 6 }]);
      const controller = await run(['image', 'show', 'fc20-9.6.0.simg']);
      expect(controller.out).toContain(
        'breaks    no joining of access points older than 9.4 afterwards: FA-110: 4 devices (curlew-ap-1, gannet-ap-1',
      );
    });
  });
});
