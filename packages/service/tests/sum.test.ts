import { createHash, randomBytes } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { knownSum, sumFor, type Sum } from '../dist/images/sum.js';

const sha = (octets: Buffer): string => createHash('sha256').update(octets).digest('hex');
/** Both kinds: one beside the service, one where the file arrives. */
const large = 17 << 20;

describe('the digest of what comes piece by piece', () => {
  it.each([
    ['in a thread of its own', large],
    ['where it arrives', 1000],
  ])('%s is told at any time, whatever the pieces, and more may follow', async (_, announced) => {
    const octets = randomBytes(7_300_001);
    const sum: Sum = sumFor(announced);
    try {
      expect(await sum.digest()).toBe(sha(Buffer.alloc(0)));
      let at = 0;
      for (const length of [1, 65_536, 3_000_000, 63, 1 << 20, 5, 2_000_000, Infinity]) {
        const piece = octets.subarray(at, at + length);
        await sum.add(piece);
        // Who hands a piece over may use its memory again at once.
        at += piece.length;
        if (at < octets.length) expect(await sum.digest()).toBe(sha(octets.subarray(0, at)));
      }
      expect(await sum.digest()).toBe(sha(octets));
      expect(await sum.digest()).toBe(sha(octets));
    } finally {
      sum.end();
    }
  });

  it('keeps nothing of a piece that its owner overwrites', async () => {
    const sum = sumFor(large);
    const piece = Buffer.alloc(500_000, 1);
    await sum.add(piece);
    piece.fill(2);
    expect(await sum.digest()).toBe(sha(Buffer.alloc(500_000, 1)));
    sum.end();
  });

  it('fails, and does not hang, when its thread is gone', async () => {
    const sum = sumFor(large);
    await sum.add(Buffer.alloc(10));
    sum.end();
    await expect(sum.digest()).rejects.toThrow('the thread of the digest ended');
  });

  it('takes no threads beyond eight, and takes them again when others have ended', async () => {
    const many = Array.from({ length: 12 }, () => sumFor(large));
    for (const [i, sum] of many.entries()) await sum.add(Buffer.from([i]));
    for (const [i, sum] of many.entries()) expect(await sum.digest()).toBe(sha(Buffer.from([i])));
    for (const sum of many) sum.end();
  });

  it('that is known is told, and takes nothing more', async () => {
    const sum = knownSum('abc');
    expect(await sum.digest()).toBe('abc');
    expect(() => sum.add(Buffer.alloc(1))).toThrow('takes no more');
  });
});
