import { imageNoteSchema, PathBook, standingOf, type PathDevice, type PathImage, type PathPartner, type VersionScheme } from '@barrow/core';
import type { Measured } from './measure.js';

const scheme: VersionScheme = {
  patterns: ['(?P<a>\\d+)\\.(?P<b>\\d+)\\.(?P<c>\\d+)'],
  order: ['a', 'b', 'c'].map((part) => ({ part, absent: 'first' })),
  write: '{a}.{b}.{c}',
};
const families = 20;
const perFamily = 50;

/** Fifty releases of a family: a required one before each new major, a partner's minimum at the last. */
function imagesOf(family: number): PathImage[] {
  return Array.from({ length: perFamily }, (_, i): PathImage => {
    const major = 1 + Math.floor(i / 10);
    const version = `${major}.${i % 10}.0`;
    const last = i === perFamily - 1 && family > 0;
    const note = imageNoteSchema.parse({
      imageNote: 1,
      family: `f-${family}`,
      version,
      models: [`M-${family}`],
      hardwareRevisions: ['A', 'B'],
      // A major begins only from the last of the one before.
      from:
        i % 10 === 0 && i > 0
          ? [{ atLeast: `${major - 1}.9.0` }]
          : [{ atLeast: `${major}.0.0` }, { atLeast: `${major - 1}.9.0`, below: `${major}.0.0` }],
      needs: last ? { partners: [{ family: 'f-0', atLeast: '5.5.0' }] } : {},
    });
    return {
      ...note,
      sha256: (family * perFamily + i).toString(16).padStart(64, '0'),
      file: `f${family}-${version}`,
      bytes: 1_000_000 + i,
    };
  });
}

/** All paths of ten thousand devices over a thousand images, as the service finds them: once for each distinct state. */
export function benchPaths(devices = 10_000): Measured[] {
  const images = Array.from({ length: families }, (_, f) => imagesOf(f)).flat();
  const schemes = new Map(Array.from({ length: families }, (_, f) => [`f-${f}`, { versions: scheme }]));
  const partner: PathPartner = {
    id: 'p',
    name: 'p',
    hardware: { family: 'f-0', model: 'M-0', hardwareRevision: 'A', variant: '' },
    firmware: '5.0.0',
    bootLoader: null,
    partner: null,
    target: null,
    pinned: null,
  };
  const fleet = Array.from({ length: devices }, (_, i): PathDevice => ({
    hardware: { family: `f-${i % families}`, model: `M-${i % families}`, hardwareRevision: i % 3 === 0 ? 'B' : 'A', variant: '' },
    // Hundreds of distinct states: every version, in two boards.
    firmware: `${1 + ((i >> 5) % 5)}.${(i >> 3) % 10}.0`,
    bootLoader: null,
    partner: i % families === 0 ? null : partner,
  }));
  const began = performance.now();
  const book = new PathBook(schemes, images);
  let hops = 0;
  let solved = 0;
  const known = new Map<string, ReturnType<typeof standingOf>>();
  for (const device of fleet) {
    const family = device.hardware.family!;
    const key = JSON.stringify(device);
    let standing = known.get(key);
    if (!standing) {
      const targeting = { rule: null, pin: null, family, version: '5.9.0', acceptUnreleased: false, why: '', conflict: null };
      standing = standingOf({ ...device, targeting, schemes, book });
      known.set(key, standing);
      solved++;
    }
    hops += standing.path?.steps.length ?? 0;
  }
  const ms = performance.now() - began;
  // The same look-ups with nothing to decide: each device by its state, each image on its way by its name.
  const byFile = new Map(images.map((i) => [i.file, i]));
  const again = performance.now();
  let octets = 0;
  for (const device of fleet)
    for (const step of known.get(JSON.stringify(device))!.path?.steps ?? []) octets += byFile.get(step.image.file)!.bytes;
  const plain = performance.now() - again;
  if (octets === 0) throw new Error('no device has a way');
  return [
    {
      what: `paths of ${devices} devices over ${images.length} images`,
      value: ms,
      unit: 'ms',
      aim: 'under 1,000',
      met: ms < 1000,
      detail: `${solved} distinct states, ${(hops / devices).toFixed(1)} images a device; ${(ms / plain).toFixed(1)} times a plain loop of the same look-ups (${plain.toFixed(0)} ms)`,
    },
  ];
}
