import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  cause,
  describePacket,
  editDistance,
  explainTransfer,
  nearestNames,
  transferFaults,
  writePcapng,
  type CauseCode,
  type Evidence,
  type KeptPacket,
  type MoveSeen,
} from '@barrow/core';

const move = (over: Partial<MoveSeen> = {}): MoveSeen => ({
  at: 1000,
  file: 'sw.simg',
  state: 'moving',
  blockSize: 1428,
  windowSize: 4,
  askedOptions: { blksize: '1428', windowsize: '4' },
  bytes: 50_000,
  totalBytes: 100_000,
  block: 35,
  resent: 0,
  acks: 10,
  singleSteps: 0,
  tries: 0,
  silentMs: 0,
  receiverError: null,
  closed: false,
  ...over,
});
const nothing: Evidence = {
  store: {
    protocol: 'tftp',
    listening: true,
    fault: null,
    addresses: ['127.0.0.1'],
    port: 69,
    told: '127.0.0.1',
    toldElsewhere: false,
  },
  device: { name: 'sw-1', addresses: ['127.1.1.1'], answers: null, ping: null },
  file: 'sw.simg',
  bytes: 100_000,
  staged: ['sw.simg'],
  since: 1000,
  now: 2000,
  patience: 15_000,
  refusals: [],
  othersWaitedUntil: null,
  loginsMissing: 0,
  moves: [],
  words: null,
  holds: null,
};
type Over = { [K in keyof Evidence]?: Evidence[K] extends object | null ? Partial<Evidence[K]> | Evidence[K] : Evidence[K] };
const seen = (over: Over): Evidence =>
  ({ ...nothing, ...over, store: { ...nothing.store, ...over.store }, device: { ...nothing.device, ...over.device } }) as Evidence;
const first = (over: Over): CauseCode | null => explainTransfer(seen(over))[0]?.cause ?? null;
const refused = (over: object) => [{ at: 1500, address: '127.1.1.1', file: 'sw.simg', why: 'no', ...over }];
const late = { now: 20_000 };

describe('what is said of a transfer', () => {
  it('is nothing while there is nothing to say', () => {
    expect(first({})).toBeNull();
    expect(first({ moves: [move()] })).toBeNull();
    expect(first({ ...late, moves: [move({ state: 'done', bytes: 100_000 })] })).toBeNull();
    // A device that erases its flash is silent for a while.
    expect(first({ ...late, moves: [move({ tries: 5, silentMs: 5000 })] })).toBeNull();
  });

  it.each<[string, Over, CauseCode]>([
    ['a store that does not listen', { store: { listening: false, fault: 'EADDRINUSE' } }, 'store-not-listening'],
    ['an address at which it does not', { store: { toldElsewhere: true } }, 'store-address-wrong'],
    ['silence of a silent device', { ...late, device: { answers: false } }, 'unreachable'],
    ['silence, its ping lost', { ...late, device: { answers: true, ping: 'not-reached' } }, 'way-to-store-blocked'],
    ['silence, its ping heard', { ...late, device: { answers: true, ping: 'reached' } }, 'never-asked'],
    ['another name', { refusals: refused({ file: 'SW.simg' }) }, 'asked-other-name'],
    ['a stranger asks for the very file', { refusals: refused({ address: '127.9.9.9' }) }, 'asked-from-elsewhere'],
    ['no answer heard', { moves: [move({ acks: 0, block: 0, bytes: 0, tries: 4, silentMs: 9000 })] }, 'reply-never-acknowledged'],
    [
      'large blocks',
      { moves: [move({ acks: 1, block: 0, bytes: 0, tries: 4, silentMs: 9000, blockSize: 8192, resent: 3 })] },
      'large-blocks-lost',
    ],
    ['a window not kept', { moves: [move({ acks: 35, singleSteps: 34, resent: 100 })] }, 'options-not-kept'],
    ['error 8', { moves: [move({ receiverError: { code: 8, message: 'not wanted' } })] }, 'options-not-kept'],
    ['error 3', { moves: [move({ receiverError: { code: 3, message: 'full' } })] }, 'no-space'],
    ['its words before its error 3', { moves: [move()], words: { cause: 'no-space', text: 'flash full' } }, 'no-space'],
    ['another error', { moves: [move({ receiverError: { code: 0, message: 'hm' } })] }, 'transfer-broken'],
    ['the same block again', { ...late, moves: [move({ tries: 5, silentMs: 9000, resent: 5 })] }, 'transfer-stalled'],
    ['three tries', { moves: [1, 2, 3].map((n) => move({ state: n < 3 ? 'broken' : 'moving' })) }, 'transfer-restarts'],
    [
      'all taken and refused',
      { moves: [move({ state: 'done' })], words: { cause: 'transfer-broken', text: 'signed by nobody' } },
      'image-refused',
    ],
    ['too few octets held', { moves: [move({ state: 'done' })], holds: { bytes: 5, sha256: null, wanted: 'aa' } }, 'wrong-size-taken'],
    ['another digest held', { moves: [move({ state: 'done' })], holds: { bytes: null, sha256: 'bb', wanted: 'aa' } }, 'image-damaged'],
    ['no login', { ...late, store: { protocol: 'http' }, loginsMissing: 2 }, 'store-login-missing'],
    ['a closed connection', { ...late, store: { protocol: 'http' }, moves: [move({ state: 'broken', closed: true })] }, 'transfer-broken'],
    [
      'all sent by HTTP, and the device says that it broke',
      { store: { protocol: 'http' }, moves: [move({ state: 'done' })], words: { cause: 'transfer-broken', text: 'cut' } },
      'transfer-broken',
    ],
  ])('%s is its cause', (_, over, wanted) => {
    const findings = explainTransfer(seen(over));
    expect(findings[0]?.cause).toBe(wanted);
    for (const f of findings) expect(f.evidence.every((e) => e.length > 10)).toBe(true);
  });

  it('takes a stranger for the device only when it can be no other', () => {
    const stranger = { refusals: refused({ address: '127.9.9.9' }) };
    expect(first({ ...stranger, othersWaitedUntil: nothing.now })).toBeNull();
    // The other has meanwhile ended, as the one from elsewhere perhaps; who asks after that can be no other.
    expect(first({ ...stranger, othersWaitedUntil: 1500 })).toBeNull();
    expect(first({ ...stranger, othersWaitedUntil: 1499 })).toBe('asked-from-elsewhere');
    // Who has heard no answer has not heard our refusal.
    expect(first({ ...stranger, words: { cause: 'never-asked', text: 'no answer' } })).toBe('never-asked');
    // Who asked itself, without its login, was not the stranger.
    expect(first({ ...stranger, ...late, store: { protocol: 'http' }, loginsMissing: 1 })).toBe('store-login-missing');
  });

  it('does not take for restarting who goes on where the last try ended', () => {
    const tries = [20_000, 40_000, 60_000].map((bytes, i) =>
      move({ bytes, state: i < 2 ? 'broken' : 'moving', closed: i < 2, askedOptions: i > 0 ? { range: `bytes=${bytes - 20_000}-` } : {} }),
    );
    expect(first({ store: { protocol: 'http' }, moves: tries })).toBeNull();
    expect(first({ store: { protocol: 'http' }, moves: tries.map((m) => ({ ...m, askedOptions: {} })) })).toBe('transfer-restarts');
  });

  it('waits a moment before it calls a closed connection the end', () => {
    const closed = { store: { protocol: 'http' as const }, moves: [move({ state: 'broken', closed: true })] };
    expect(first(closed)).toBeNull();
    expect(first({ ...closed, words: { cause: 'transfer-broken', text: 'closed' } })).toBe('transfer-broken');
  });

  it('has a cause with something to do for every fault of the table', () => {
    for (const fault of transferFaults) expect(cause(fault.cause).next.length).toBeGreaterThan(20);
    expect(new Set(transferFaults.map((f) => f.name)).size).toBe(transferFaults.length);
  });
});

describe('the nearest names', () => {
  it.each([
    ['SW.SIMG', 'sw.simg', 'the same but for capital letters'],
    ['firmware/sw.simg', 'sw.simg', 'the same with a folder before it'],
    ['C:\\tftp\\SW.simg', 'sw.simg', 'a folder before it, and other capital letters'],
    ['sw.bin', 'sw.simg', 'the same but for its ending'],
    ['sv.simg', 'sw.simg', '1 letter differs'],
  ])('%s is near to %s: %s', (asked, staged, how) => {
    expect(nearestNames(asked, ['entirely-else.img', staged])[0]).toEqual({ name: staged, how });
  });

  it('are as far as the letters to change, whichever way one goes', () => {
    expect(editDistance('kitten', 'sitting')).toBe(3);
    fc.assert(
      fc.property(fc.string({ maxLength: 20 }), fc.string({ maxLength: 20 }), fc.string({ maxLength: 20 }), (a, b, c) => {
        expect(editDistance(a, b)).toBe(editDistance(b, a));
        expect(editDistance(a, a)).toBe(0);
        expect(editDistance(a, c)).toBeLessThanOrEqual(editDistance(a, b) + editDistance(b, c));
      }),
    );
  });
});

describe('kept packets', () => {
  const packet = (out: boolean, head: Buffer, length = head.length): KeptPacket => ({
    at: 1_700_000_000_000.25,
    out,
    length,
    head: head.toString('hex'),
  });
  const request = packet(false, Buffer.from('\0\u0001sw.simg\0octet\0blksize\x001428\0', 'latin1'));
  const block = packet(true, Buffer.from([0, 3, 0, 1]), 1432);

  it('are told in words', () => {
    expect([request, block].map(describePacket)).toEqual(['asks to read "sw.simg" in octet, with blksize 1428', 'block 1, 1428 octets']);
    expect(describePacket(packet(true, Buffer.from('\0\u0005\0\u0001not staged\0', 'latin1')))).toBe('error 1: not staged');
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 64 }), (bytes) => {
        expect(describePacket(packet(false, Buffer.from(bytes)))).toMatch(/^[\x20-\x7e·]+$/);
      }),
    );
  });

  it.each([
    ['IPv4', '127.0.0.1', '127.1.1.1', 20],
    ['IPv6', '::1', 'fe80::2', 40],
  ])('are written as pcapng with %s headers, from the ports that they went from', (_, us, peer, ipOctets) => {
    const file = Buffer.from(
      writePcapng([request, block], { us: { address: us, port: 69, transferPort: 40_000 }, peer: { address: peer, port: 50_000 } }),
    );
    const blocks: Buffer[] = [];
    for (let at = 0; at < file.length; at += file.readUInt32LE(at + 4)) {
      const length = file.readUInt32LE(at + 4);
      // Every block says its length at both ends.
      expect(file.readUInt32LE(at + length - 4)).toBe(length);
      blocks.push(file.subarray(at, at + length));
    }
    expect(blocks.map((b) => b.readUInt32LE(0))).toEqual([0x0a0d0d0a, 1, 6, 6]);
    const ports = blocks.slice(2).map((b) => [b.readUInt16BE(28 + ipOctets), b.readUInt16BE(28 + ipOctets + 2)]);
    expect(ports).toEqual([
      [50_000, 69],
      [40_000, 50_000],
    ]);
    // Captured is what was kept, and told is how long it was.
    expect(blocks[3]!.readUInt32LE(20)).toBe(ipOctets + 8 + 4);
    expect(blocks[3]!.readUInt32LE(24)).toBe(ipOctets + 8 + 1432);
  });
});
