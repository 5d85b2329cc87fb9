import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  imageNoteSchema,
  PathBook,
  type ImageNoteInput,
  type Path,
  type PathDevice,
  type PathImage,
  type PathPartner,
  type VersionScheme,
} from '@barrow/core';

const plain: VersionScheme = { patterns: ['(?P<n>\\d+)'], order: [{ part: 'n', absent: 'first' }], write: '{n}' };
const families = new Map([
  ['own', { versions: plain }],
  ['line', { versions: plain }],
  ['boss', { versions: plain }],
]);

let made = 0;
function image(version: number, over: Partial<Omit<ImageNoteInput, 'imageNote' | 'version'>> & { bytes?: number } = {}): PathImage {
  const { bytes = 10, ...note } = over;
  const full = imageNoteSchema.parse({
    imageNote: 1,
    family: 'own',
    models: ['M'],
    hardwareRevisions: ['1'],
    version: String(version),
    ...note,
  });
  const sha256 = (++made).toString(16).padStart(64, '0');
  return { ...full, sha256, file: `${full.family}-${version}-${made}`, bytes };
}
const at = (firmware: number, over: Partial<PathDevice> = {}): PathDevice => ({
  hardware: { family: 'own', model: 'M', hardwareRevision: '1', variant: '' },
  firmware: String(firmware),
  bootLoader: null,
  partner: null,
  ...over,
});
const boss = (firmware: number, over: Partial<PathPartner> = {}): PathPartner => ({
  ...at(firmware),
  hardware: { family: 'boss', model: 'B', hardwareRevision: '1', variant: '' },
  id: 'boss-1',
  name: 'boss-1',
  target: null,
  pinned: null,
  ...over,
});
const ofBoss = { family: 'boss', models: ['B'], hardwareRevisions: ['1'] };
const to = (version: number, family = 'own') => ({ family, version: String(version), acceptUnreleased: false });
const solve = (images: readonly PathImage[], device: PathDevice, version: number, family = 'own') =>
  new PathBook(families, images).toTarget(device, to(version, family));
const steps = (path: Path | null) => path?.steps.map((s) => `${s.on ? `${s.on.name}:` : ''}${s.image.version}`);

describe('the upgrade path', () => {
  it('is the one image that accepts what is installed', () => {
    const { path } = solve([image(2), image(3)], at(1), 3);
    expect(steps(path)).toEqual(['3']);
    expect(path!.steps[0]!.from).toBe('1');
  });

  it('passes what must be passed, and nothing more', () => {
    const images = [
      image(5, { from: [{ atLeast: '4' }] }),
      image(4, { from: [{ atLeast: '3', below: '4' }], channel: 'transitional' }),
      image(3),
      image(2),
    ];
    expect(steps(solve(images, at(1), 5).path)).toEqual(['3', '4', '5']);
  });

  it('counts restarts first, then bytes', () => {
    const slow = image(3, { reboots: 3, bytes: 1, from: [{ only: '1' }] });
    const byTwo = image(3, { bytes: 50, from: [{ only: '2' }], models: ['M'] });
    const { path } = solve([slow, byTwo, image(2, { bytes: 50 })], at(1), 3);
    expect(steps(path)).toEqual(['2', '3']);
    expect([path!.reboots, path!.bytes]).toEqual([2, 100]);
    const { path: small } = solve([image(2, { bytes: 30 }), image(2, { bytes: 20, hardwareRevisions: ['1', '2'] })], at(1), 2);
    expect(small!.bytes).toBe(20);
  });

  it('never takes a beta, a candidate or a withdrawn image by itself, and a beta only as the goal that was named', () => {
    const beta = image(2, { channel: 'beta' });
    const onwards = image(3, { from: [{ only: '2' }] });
    for (const over of [{ channel: 'beta' }, { channel: 'candidate' }, { withdrawn: { why: 'it burns' } }] as const)
      expect(solve([image(2, over), onwards], at(1), 3).path).toBeNull();
    const book = new PathBook(families, [beta, onwards]);
    expect(book.toTarget(at(1), to(2)).gap).toMatchObject({ kind: 'channel' });
    expect(steps(book.toTarget(at(1), { ...to(2), acceptUnreleased: true }).path)).toEqual(['2']);
    expect(book.toTarget(at(1), { ...to(3), acceptUnreleased: true }).path).toBeNull();
  });

  it('does not overshoot, and goes down only when that is asked for and allowed', () => {
    const above = image(9, { goingDown: 'allowed' });
    const below = image(2, { goingDown: 'allowed', from: [{ only: '9' }] });
    expect(solve([above, below], at(1), 2).path).toBeNull();
    const book = new PathBook(families, [below, image(3)]);
    expect(book.toTarget(at(9), to(2)).path).toBeNull();
    expect(steps(book.toTarget(at(9), to(2), true).path)).toEqual(['2']);
    // The way back may lead further down, and up again.
    expect(steps(book.toTarget(at(9), to(3), true).path)).toEqual(['2', '3']);
    expect(book.toTarget(at(8), to(1), true).path).toBeNull();
  });

  it('crosses from one line to another through a transitional image, and carries what is lost', () => {
    const bridge = image(8, { channel: 'transitional', bringsBootLoader: '20' });
    const first = image(1, {
      family: 'line',
      from: [{ family: 'own', atLeast: '8' }],
      needs: { bootLoader: '20' },
      resets: [{ what: 'logins' }],
    });
    const { path } = solve([bridge, first, image(7)], at(3, { bootLoader: '10' }), 1, 'line');
    expect(steps(path)).toEqual(['8', '1']);
    expect(path!.steps[1]).toMatchObject({ resets: ['logins'], from: '8' });
  });

  it('says of a reset only where it happens', () => {
    const major = image(6, { resets: [{ what: 'settings', from: { below: '5' } }] });
    expect(solve([major], at(4), 6).path!.steps[0]!.resets).toEqual(['settings']);
    expect(solve([major], at(5), 6).path!.steps[0]!.resets).toEqual([]);
  });

  it('brings the boot loader up first', () => {
    const loader = image(20, { component: 'boot-loader' });
    const images = [image(2, { needs: { bootLoader: '20' } }), loader];
    expect(steps(solve(images, at(1, { bootLoader: '10' }), 2).path)).toEqual(['20', '2']);
    expect(steps(solve(images, at(1, { bootLoader: '20' }), 2).path)).toEqual(['2']);
    expect(solve(images, at(1), 2).gap).toMatchObject({ kind: 'boot-loader', text: expect.stringContaining('not known') as string });
    expect(solve([images[0]!], at(1, { bootLoader: '10' }), 2).gap).toMatchObject({
      kind: 'boot-loader',
      wanted: 'a boot loader of 20 or newer for M, hardware 1',
    });
  });

  describe('with a partner', () => {
    const needy = image(2, { needs: { partners: [{ family: 'boss', atLeast: '5' }] } });
    const bossImages = [image(5, ofBoss), image(6, ofBoss), image(7, ofBoss)];
    it('lets the partner go first, to its own target where that is enough', () => {
      expect(steps(solve([needy, ...bossImages], at(1, { partner: boss(3, { target: to(6, 'boss') }) }), 2).path)).toEqual([
        'boss-1:6',
        '2',
      ]);
      expect(steps(solve([needy, ...bossImages], at(1, { partner: boss(3, { target: to(4, 'boss') }) }), 2).path)).toEqual([
        'boss-1:5',
        '2',
      ]);
      expect(steps(solve([needy, ...bossImages], at(1, { partner: boss(5) }), 2).path)).toEqual(['2']);
    });
    it('says which partner stands in the way, and why', () => {
      const gapOf = (partner: PathPartner | null, images = [needy, ...bossImages]) => solve(images, at(1, { partner }), 2).gap?.text;
      expect(gapOf(boss(3, { pinned: 'the harbour master wants it' }))).toContain(
        'boss-1 runs 3, and 5 is needed there; it is pinned: the harbour master wants it',
      );
      expect(gapOf(boss(3, { firmware: null }))).toContain('what boss-1 runs is not known');
      expect(gapOf(null)).toContain('no boss is known to manage it');
      expect(gapOf(boss(3), [needy])).toContain('the store has no image of a version that would do');
    });
    it('goes without one where the image allows it', () => {
      const free = image(2, { needs: { partners: [{ family: 'boss', atLeast: '5', whenAlone: 'allowed' }] } });
      expect(steps(solve([free], at(1), 2).path)).toEqual(['2']);
      expect(solve([free], at(1, { partner: boss(3) }), 2).path).toBeNull();
    });
    it('counts what the partner costs', () => {
      const dear = image(2, { bytes: 1, needs: { partners: [{ family: 'boss', atLeast: '5' }] } });
      const cheap = image(2, { bytes: 90, hardwareRevisions: ['1', '2'] });
      expect(solve([dear, cheap, ...bossImages], at(1, { partner: boss(3) }), 2).path).toMatchObject({ reboots: 1, bytes: 90 });
    });
  });
});

describe('the gap', () => {
  const gap = (images: readonly PathImage[], from: number, version: number) => solve(images, at(from), version).gap!;
  it('is the image itself when none is there', () => {
    expect(gap([image(2)], 1, 5)).toMatchObject({ kind: 'no-image', wanted: 'an image of 5 for M, hardware 1', near: null });
  });
  it('is the hardware when the image is for another', () => {
    const other = image(5, { hardwareRevisions: ['2'] });
    expect(gap([other], 1, 5)).toMatchObject({
      kind: 'hardware',
      near: { file: other.file, why: 'hardware revision: image is for 2, device is 1' },
    });
  });
  it('is the reason of a withdrawal', () => {
    expect(gap([image(5, { withdrawn: { why: 'it burns' } })], 1, 5)).toMatchObject({
      kind: 'withdrawn',
      text: expect.stringContaining('it burns') as string,
    });
  });
  it('names the furthest that can be reached, where the way goes on, and what would close it', () => {
    const last = image(9, { from: [{ atLeast: '7' }] });
    const bridge = image(7, { hardwareRevisions: ['2'], from: [{ atLeast: '3' }] });
    const found = gap([image(3), image(4, { from: [{ atLeast: '3' }] }), bridge, last], 1, 9);
    expect(found).toEqual({
      kind: 'version',
      text: `nothing in the store takes 4 (the furthest that 1 can go) to 7 or newer, from where ${last.file} goes on`,
      wanted: 'an image for M, hardware 1 that accepts 4 and brings it to 7 or newer',
      near: { sha256: bridge.sha256, file: bridge.file, why: 'hardware revision: image is for 2, device is 1' },
    });
  });
});

/** Tries every chain of images that is admissible, without any cleverness. */
function bruteForce(images: readonly PathImage[], device: PathDevice, goal: number): { reboots: number; bytes: number } | null {
  let best: { reboots: number; bytes: number } | null = null;
  const partnerCost = (needed: number): { reboots: number; bytes: number } | null => {
    const has = Number(device.partner!.firmware);
    if (has >= needed) return { reboots: 0, bytes: 0 };
    const ways = images.filter(
      (i) => i.family === 'boss' && Number(i.version) >= needed && Number(i.version) > has && i.withdrawn === null,
    );
    return ways.length === 0
      ? null
      : ways.map((i) => ({ reboots: i.reboots, bytes: i.bytes })).sort((a, b) => a.reboots - b.reboots || a.bytes - b.bytes)[0]!;
  };
  const walk = (version: number, loader: number, needed: number, reboots: number, bytes: number, used: ReadonlySet<string>): void => {
    if (version === goal) {
      const partner = partnerCost(needed);
      if (!partner) return;
      const total = { reboots: reboots + partner.reboots, bytes: bytes + partner.bytes };
      if (!best || total.reboots < best.reboots || (total.reboots === best.reboots && total.bytes < best.bytes)) best = total;
      return;
    }
    for (const i of images) {
      if (i.family !== 'own' || used.has(i.sha256) || i.withdrawn !== null || i.channel === 'beta') continue;
      if (i.from.length > 0 && !i.from.some((r) => version >= Number(r.atLeast ?? 0) && version < Number(r.below ?? 99))) continue;
      if (i.needs.bootLoader !== null && loader < Number(i.needs.bootLoader)) continue;
      const next = Number(i.version);
      const asks = Math.max(needed, ...i.needs.partners.map((p) => Number(p.atLeast)));
      const now = new Set([...used, i.sha256]);
      if (i.component === 'boot-loader') {
        if (next > loader) walk(version, next, asks, reboots + i.reboots, bytes + i.bytes, now);
      } else if (next > version && next <= goal)
        walk(next, Math.max(loader, Number(i.bringsBootLoader ?? 0)), asks, reboots + i.reboots, bytes + i.bytes, now);
    }
  };
  walk(Number(device.firmware), Number(device.bootLoader), 0, 0, 0, new Set());
  return best;
}

describe('against brute force', () => {
  const range = fc.record({ atLeast: fc.integer({ min: 1, max: 7 }).map(String), below: fc.integer({ min: 2, max: 9 }).map(String) });
  const anyImage = fc
    .record({
      version: fc.constantFrom(2, 3, 3, 4, 4, 5, 6, 6, 6, 7),
      bytes: fc.integer({ min: 1, max: 99 }),
      from: fc.oneof(fc.array(range, { maxLength: 0 }), fc.array(range, { maxLength: 2 })),
      reboots: fc.integer({ min: 1, max: 3 }),
      channel: fc.constantFrom('release' as const, 'transitional' as const, 'beta' as const, 'release' as const),
      withdrawn: fc.oneof({ weight: 6, arbitrary: fc.constant(null) }, { weight: 1, arbitrary: fc.constant({ why: 'x' }) }),
      bootLoader: fc.oneof(fc.constant(null), fc.constant(null), fc.integer({ min: 1, max: 4 }).map(String)),
      brings: fc.option(fc.integer({ min: 1, max: 4 }).map(String), { freq: 3 }),
      partner: fc.oneof(fc.constant(null), fc.constant(null), fc.integer({ min: 1, max: 6 }).map(String)),
      what: fc.constantFrom('system' as const, 'system' as const, 'system' as const, 'boot-loader' as const, 'boss' as const),
    })
    .map((r) =>
      image(r.version, {
        bytes: r.bytes,
        reboots: r.reboots,
        withdrawn: r.withdrawn,
        ...(r.what === 'boss'
          ? ofBoss
          : {
              from: r.from,
              channel: r.channel,
              component: r.what,
              bringsBootLoader: r.what === 'system' ? r.brings : null,
              needs: { bootLoader: r.bootLoader, partners: r.partner === null ? [] : [{ family: 'boss', atLeast: r.partner }] },
            }),
      }),
    );

  it('costs the same, and there is a path exactly when there is one', () => {
    let [found, none] = [0, 0];
    fc.assert(
      fc.property(
        fc.array(anyImage, { minLength: 2, maxLength: 8 }),
        fc.integer({ min: 1, max: 3 }),
        fc.integer({ min: 1, max: 5 }),
        (images, start, has) => {
          const device = at(start, { bootLoader: '1', partner: boss(has) });
          const { path, gap } = new PathBook(families, images).toTarget(device, to(6));
          const truth = bruteForce(images, device, 6);
          expect(path && { reboots: path.reboots, bytes: path.bytes }).toEqual(truth);
          if (path) found++;
          else {
            none++;
            expect(gap!.text.length).toBeGreaterThan(10);
          }
          // What the steps cost is what was told.
          if (path) expect(path.steps.reduce((sum, s) => sum + s.image.bytes, 0)).toBe(path.bytes);
        },
      ),
      { numRuns: 3000 },
    );
    // Both answers were truly tried.
    expect(Math.min(found, none)).toBeGreaterThan(100);
  });
});
