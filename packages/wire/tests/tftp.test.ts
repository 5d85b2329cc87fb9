import { createSocket } from 'node:dgram';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { afterEach, describe, expect, it } from 'vitest';
import {
  decodeRequest,
  MalformedRequest,
  negotiate,
  PacketTrace,
  TftpServer,
  ThreadedTftp,
  type TftpAnswer,
  type TransferEnd,
} from '@barrow/wire';
import { command } from '../../../tests/support/command.js';
import { has } from '../../../tests/support/service.js';
import { stall } from '../../../tests/support/stall.js';
import { ack, bareClient, errorTo, rrq } from './bare-client.js';
import { Relay } from './relay.js';

const undo: (() => unknown)[] = [];
afterEach(async () => {
  for (const step of undo.splice(0).reverse()) await step();
});

interface Bed {
  port: number;
  dir: string;
  ends: TransferEnd[];
  refused: string[];
  ended: () => Promise<TransferEnd>;
  server: TftpServer<string>;
}

async function bed(files: Record<string, Buffer>, use: { tries?: number; answer?: () => TftpAnswer<string> } = {}): Promise<Bed> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-tftp-'));
  for (const [name, bytes] of Object.entries(files)) writeFileSync(join(dir, name), bytes);
  const ends: TransferEnd[] = [];
  const refused: string[] = [];
  let wake: (() => void) | null = null;
  const server = new TftpServer<string>({
    host: '127.0.0.1',
    port: 0,
    tries: use.tries ?? 5,
    answer: (request) =>
      use.answer?.() ??
      (request.filename in files
        ? { kind: 'send', path: join(dir, request.filename), bytes: files[request.filename]!.length, tag: request.filename }
        : { kind: 'refuse', code: 1, message: 'not staged' }),
    onRefused: (_peer, _request, why) => refused.push(why),
    onEnd: (_tag, end) => {
      ends.push(end);
      wake?.();
    },
  });
  const { port } = await server.start();
  undo.push(
    () => rmSync(dir, { recursive: true }),
    () => server.stop(),
  );
  const ended = async () => {
    while (ends.length === 0) await new Promise<void>((resolve) => (wake = resolve));
    return ends.shift()!;
  };
  return { port, dir, ends, refused, ended, server };
}

const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
const run = async (name: string, args: string[], cwd: string, input = '') => {
  const { code, out, err } = await command(name, args, cwd, input);
  return { code, out: out + err };
};

const socketTo = () => bareClient(undo);

describe('independent clients', () => {
  const sizes = { 'empty.bin': randomBytes(0), 'full.bin': randomBytes(512 * 40), 'odd.bin': randomBytes(1_234_567) };

  it.skipIf(!has('curl')).each(['--tftp-no-options', '--tftp-blksize=1428', '--tftp-blksize=8192'])(
    'curl %s fetches every size whole',
    async (option) => {
      const b = await bed(sizes);
      for (const [name, bytes] of Object.entries(sizes)) {
        // curl itself fails on an empty file whose size it was told by option.
        if (bytes.length === 0 && option !== '--tftp-no-options') continue;
        const [flag, value] = option.split('=');
        const { code, out } = await run(
          'curl',
          ['-s', '-S', flag!, ...(value ? [value] : []), '-o', join(b.dir, `got-${name}`), `tftp://127.0.0.1:${b.port}/${name}`],
          b.dir,
        );
        expect(code, out).toBe(0);
        // curl leaves no file behind for no octets.
        if (bytes.length > 0) expect(sha(readFileSync(join(b.dir, `got-${name}`)))).toBe(sha(bytes));
        expect(await b.ended()).toEqual({ kind: 'done' });
      }
    },
  );

  it.skipIf(!has('tftp'))('tftp-hpa fetches in octet mode', async () => {
    const b = await bed(sizes);
    const { out } = await run('tftp', ['-m', 'octet', '127.0.0.1', String(b.port), '-c', 'get', 'odd.bin', 'hpa.bin'], b.dir);
    expect(out).toBe('');
    expect(sha(readFileSync(join(b.dir, 'hpa.bin')))).toBe(sha(sizes['odd.bin']));
  });

  it.skipIf(!has('atftp')).each([
    ['--option', 'blksize 1428'],
    ['--option', 'windowsize 8'],
    ['--option', 'tsize'],
    ['--option', 'blksize 65464'],
  ])('atftp %s %s fetches whole', async (...option) => {
    const b = await bed(sizes);
    const { code, out } = await run(
      'atftp',
      [...option, '-g', '-r', 'odd.bin', '-l', join(b.dir, 'a.bin'), '127.0.0.1', String(b.port)],
      b.dir,
    );
    expect(code, out).toBe(0);
    expect(sha(readFileSync(join(b.dir, 'a.bin')))).toBe(sha(sizes['odd.bin']));
  });

  it.skipIf(!has('curl'))('are told the error when nothing is staged, and cannot write', async () => {
    const b = await bed(sizes);
    expect((await run('curl', ['-s', '-S', `tftp://127.0.0.1:${b.port}/other.bin`], b.dir)).code).toBe(68);
    expect((await run('curl', ['-s', '-S', '-T', join(b.dir, 'odd.bin'), `tftp://127.0.0.1:${b.port}/odd.bin`], b.dir)).code).not.toBe(0);
    expect(b.refused).toEqual(['not staged', 'this store takes no files']);
  });
});

describe('block numbers', () => {
  it.skipIf(!has('curl'))('roll over: more than 65,535 blocks arrive whole', async () => {
    const file = randomBytes(8 * 70_000 + 3);
    const b = await bed({ big: file });
    const { code, out } = await run(
      'curl',
      ['-s', '-S', '--tftp-blksize', '8', '-o', join(b.dir, 'out'), `tftp://127.0.0.1:${b.port}/big`],
      b.dir,
    );
    expect(code, out).toBe(0);
    expect(sha(readFileSync(join(b.dir, 'out')))).toBe(sha(file));
  });
});

describe('a line that loses, doubles and delays', () => {
  const file = randomBytes(70_001);
  it.skipIf(!has('curl')).each([
    { loss: 0.05, twice: 0, late: 0, seed: 11 },
    { loss: 0, twice: 0.3, late: 0.1, seed: 12 },
    { loss: 0.04, twice: 0.1, late: 0.05, seed: 13 },
  ])('%j brings the file whole to curl', async (line) => {
    const b = await bed({ f: file }, { tries: 8 });
    const relay = new Relay(b.port, line);
    undo.push(() => relay.stop());
    const at = await relay.start();
    const { code, out } = await run(
      'curl',
      ['-s', '-S', '--tftp-blksize', '1024', '-o', join(b.dir, 'got'), `tftp://127.0.0.1:${at}/f`],
      b.dir,
    );
    expect(code, out).toBe(0);
    expect(sha(readFileSync(join(b.dir, 'got')))).toBe(sha(file));
    // The line did what it was asked to: a check on a good line would prove nothing.
    expect(relay.lost > 0).toBe(line.loss > 0);
    expect(relay.doubled > 0).toBe(line.twice > 0);
    expect(relay.delayed > 0).toBe(line.late > 0);
  });

  it.skipIf(!has('tftp'))('brings the file whole to tftp-hpa, which asks for no options', async () => {
    const b = await bed({ f: file }, { tries: 8 });
    const relay = new Relay(b.port, { loss: 0.05, twice: 0.05, late: 0.02, seed: 31 });
    undo.push(() => relay.stop());
    const at = await relay.start();
    await run('tftp', ['-m', 'octet', '127.0.0.1', String(at), '-c', 'get', 'f', 'got'], b.dir);
    expect(sha(readFileSync(join(b.dir, 'got')))).toBe(sha(file));
    expect(relay.lost).toBeGreaterThan(0);
  });

  it.skipIf(!has('atftp'))('brings a windowed transfer whole to atftp', async () => {
    const b = await bed({ f: file }, { tries: 8 });
    const relay = new Relay(b.port, { loss: 0.02, twice: 0.05, late: 0, seed: 21 });
    undo.push(() => relay.stop());
    const at = await relay.start();
    const { code, out } = await run(
      'atftp',
      ['--option', 'windowsize 8', '--option', 'blksize 1024', '-g', '-r', 'f', '-l', join(b.dir, 'got'), '127.0.0.1', String(at)],
      b.dir,
    );
    expect(code, out).toBe(0);
    expect(sha(readFileSync(join(b.dir, 'got')))).toBe(sha(file));
    expect(relay.lost).toBeGreaterThan(0);
  });
});

/** The numbers of the blocks that come, to the first of a number. */
async function until(c: { next: () => Promise<{ packet: Buffer }> }, block: number): Promise<number[]> {
  const came: number[] = [];
  while (came.at(-1) !== block) {
    const { packet } = await c.next();
    const opcode = packet.readUInt16BE(0);
    expect(opcode, packet.toString('latin1')).not.toBe(5);
    // The options may be told once more, on a busy machine.
    if (opcode === 3) came.push(packet.readUInt16BE(2));
  }
  return came;
}

describe('a receiver on a bad line', () => {
  it('does not have a block sent twice because its acknowledgement came twice (RFC 1123 §4.2.3.1)', async () => {
    const b = await bed({ f: randomBytes(512 * 3 + 10) });
    const c = await socketTo();
    c.send(rrq('f', 'octet'), b.port);
    const one = await c.next();
    for (let i = 0; i < 50; i++) c.send(ack(1), one.port);
    // What comes twice because nothing was acknowledged in time, on a busy machine, is not told apart: it is never so many.
    const came = await until(c, 2);
    c.send(ack(2), one.port);
    came.push(...(await until(c, 3)));
    expect(came.filter((block) => block === 2).length).toBeLessThan(20);
  });

  it('gets the rest of a window again from where it was lost (RFC 7440 §4)', async () => {
    const b = await bed({ f: randomBytes(512 * 10) });
    const c = await socketTo();
    c.send(rrq('f', 'octet', 'windowsize', '4'), b.port);
    const oack = await c.next();
    expect(oack.packet.toString('latin1', 2)).toBe('windowsize\x004\0');
    c.send(ack(0), oack.port);
    expect([...new Set(await until(c, 4))]).toEqual([1, 2, 3, 4]);
    c.send(ack(2), oack.port);
    expect((await until(c, 6)).slice(-4)).toEqual([3, 4, 5, 6]);
  });

  it('that ignores what it has, until its own timer runs out, is left in peace for long enough', async () => {
    const b = await bed({ f: randomBytes(3000) });
    const c = await socketTo();
    // It agreed on one second, and its own timer is as long; every packet starts that anew.
    c.send(rrq('f', 'octet', 'timeout', '1'), b.port);
    const { port } = await c.next();
    let timer: NodeJS.Timeout;
    const anew = (): void => {
      clearTimeout(timer);
      timer = setTimeout(() => c.send(ack(1), port), 1000);
    };
    c.socket.on('message', anew);
    undo.push(() => clearTimeout(timer));
    c.send(ack(0), port);
    // A store that never left it in peace would give it up, with an error.
    const came = await until(c, 2);
    expect([...new Set(came)]).toEqual([1, 2]);
    expect(came.length).toBeGreaterThan(2);
  });

  it('is heard before anything is sent again to it, though this process was away for longer than the wait', async () => {
    const b = await bed({ f: randomBytes(3000) });
    const c = await socketTo();
    c.send(rrq('f', 'octet'), b.port);
    const { port } = await c.next();
    // What it acknowledged lies in the buffer of the store's port, whose timer is long due, when this thread is let go.
    await new Promise<void>((resolve) => c.socket.send(ack(1), port, '127.0.0.1', () => resolve()));
    stall(1500);
    expect((await c.next()).packet.readUInt16BE(2)).toBe(2);
  });

  it('that falls silent is given up after so many tries, and no memory is held for it', async () => {
    const b = await bed({ f: randomBytes(2000) }, { tries: 2 });
    const c = await socketTo();
    c.send(rrq('f', 'octet', 'timeout', '1'), b.port);
    const end = await b.ended();
    expect(end.kind).toBe('silent');
    // Two seconds of patience, and more than one sending in them.
    expect(end.kind === 'silent' && end.tries).toBeGreaterThan(1);
    expect(await errorTo(c)).toBe('given up: nothing more was acknowledged');
    expect(b.server.active).toBe(0);
  });

  it('that refuses the file in the middle is heard', async () => {
    const b = await bed({ f: randomBytes(2000) });
    const c = await socketTo();
    c.send(rrq('f', 'octet'), b.port);
    const { port } = await c.next();
    c.send(Buffer.concat([Buffer.from([0, 5, 0, 3]), Buffer.from('flash full\0')]), port);
    expect(await b.ended()).toEqual({ kind: 'ended-by-peer', code: 3, message: 'flash full' });
  });

  it('is not disturbed by a third port, which is told error 5 (RFC 1350 §4)', async () => {
    const b = await bed({ f: randomBytes(600) });
    const [c, stranger] = [await socketTo(), await socketTo()];
    c.send(rrq('f', 'octet'), b.port);
    const { port } = await c.next();
    stranger.send(ack(1), port);
    const told = await stranger.next();
    expect([told.packet.readUInt16BE(0), told.packet.readUInt16BE(2)]).toEqual([5, 5]);
    c.send(ack(1), port);
    const last = await c.next();
    expect(last.packet.length).toBe(4 + 88);
    c.send(ack(2), port);
    expect(await b.ended()).toEqual({ kind: 'done' });
  });
});

describe('requests that mean harm', () => {
  it.each([
    ['a path upward', rrq('../../etc/passwd', 'octet')],
    ['an absolute path', rrq('/etc/passwd', 'octet')],
    ['a mode of no kind', rrq('f', 'mail')],
    ['no end', Buffer.from('\0\u0001f\0octet')],
    ['64 KiB of name', rrq('x'.repeat(60_000), 'octet')],
    ['an operation of no kind', Buffer.from([0, 9, 1, 1, 0])],
  ])('%s is answered with an error and begins nothing', async (_, packet) => {
    const b = await bed({ f: randomBytes(10) });
    const c = await socketTo();
    c.send(packet, b.port);
    expect((await c.next()).packet.readUInt16BE(0)).toBe(5);
    expect(b.server.active).toBe(0);
  });

  it('are not seen in what follows a transfer that is over', async () => {
    const b = await bed({ f: randomBytes(10) });
    const c = await socketTo();
    c.send(ack(7), b.port);
    c.send(Buffer.concat([Buffer.from([0, 5, 0, 0]), Buffer.from('bye\0')]), b.port);
    c.send(rrq('none', 'octet'), b.port);
    // The first answer is that to the request.
    expect((await c.next()).packet.toString('latin1', 4)).toBe('not staged\0');
    expect(b.refused).toEqual(['not staged']);
  });

  it('never fail in another way than a malformed request, whatever the bytes', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 600 }), (bytes) => {
        try {
          decodeRequest(Buffer.from(bytes));
        } catch (error) {
          expect(error).toBeInstanceOf(MalformedRequest);
        }
      }),
    );
  });

  it.each([
    ['blksize', '0', 512, 1],
    ['blksize', '65465', 65464, 1],
    ['windowsize', '0', 512, 1],
    ['windowsize', '65535', 512, 64],
    ['windowsize', '-1', 512, 1],
    ['blksize', '1e3', 512, 1],
    ['colour', 'blue', 512, 1],
  ])('option %s=%s is answered by sense', (name, value, blockSize, windowSize) => {
    expect(negotiate(new Map([[name, value]]), 100)).toMatchObject({ blockSize, windowSize });
  });
});

describe('netascii (RFC 764)', () => {
  const text = Buffer.from('one\ntwo\rthree\r\nfour');
  it('is how a text is sent to who asks for it so', async () => {
    const b = await bed({ 'note.txt': text });
    const c = await socketTo();
    c.send(rrq('note.txt', 'netascii', 'tsize', '0'), b.port);
    const oack = await c.next();
    expect(oack.packet.toString('latin1', 2)).toBe(`tsize\0${text.length + 4}\0`);
    c.send(ack(0), oack.port);
    expect((await c.next()).packet.subarray(4).toString()).toBe('one\r\ntwo\r\0three\r\0\r\nfour');
  });
  it.skipIf(!has('tftp'))('is what tftp-hpa gets in ascii mode, and turns back', async () => {
    const b = await bed({ 'note.txt': text });
    await run('tftp', ['-m', 'netascii', '127.0.0.1', String(b.port), '-c', 'get', 'note.txt', 'got.txt'], b.dir);
    expect(readFileSync(join(b.dir, 'got.txt'))).toEqual(text);
  });
  it('is refused for an image, which it would change', async () => {
    const b = await bed({ big: randomBytes((1 << 20) + 1) });
    const c = await socketTo();
    c.send(rrq('big', 'netascii'), b.port);
    expect((await c.next()).packet.toString('latin1', 4)).toContain('octet mode only');
    expect(b.server.active).toBe(0);
  });
});

describe('several addresses', () => {
  it('are listened at with one port, and each answers from where it was asked', async () => {
    const server = new TftpServer<string>({
      host: ['127.46.7.1', '127.46.7.2', '::1'],
      port: 0,
      answer: (_request, _peer, at) => ({ kind: 'refuse', code: 1, message: `asked at ${at.host}` }),
    });
    const { port } = await server.start();
    undo.push(() => server.stop());
    for (const host of ['127.46.7.1', '127.46.7.2', '::1']) {
      const socket = createSocket(host.includes(':') ? 'udp6' : 'udp4');
      undo.push(() => socket.close());
      const answer = new Promise<{ text: string; from: string }>((resolve) =>
        socket.once('message', (packet, from) => resolve({ text: packet.toString('latin1', 4, packet.length - 1), from: from.address })),
      );
      socket.send(rrq('x', 'octet'), port, host);
      expect(await answer).toEqual({ text: `asked at ${host}`, from: host });
    }
  });
  it('all or none: one that cannot be had frees the others', async () => {
    const server = new TftpServer<string>({
      host: ['127.46.7.3', '203.0.113.9'],
      port: 0,
      answer: () => ({ kind: 'refuse', code: 1, message: '' }),
    });
    await expect(server.start()).rejects.toMatchObject({ fault: 'refused' });
  });
});

describe('a server in a thread of its own', () => {
  interface Seen {
    begun: number;
    refused: number;
    ends: { end: TransferEnd; packets: number; missing: number; resent: number }[];
  }
  async function threaded(files: Record<string, Buffer>): Promise<{ port: number; dir: string; seen: Seen; server: ThreadedTftp<string> }> {
    const dir = mkdtempSync(join(tmpdir(), 'barrow-thread-'));
    for (const [name, bytes] of Object.entries(files)) writeFileSync(join(dir, name), bytes);
    const seen: Seen = { begun: 0, refused: 0, ends: [] };
    const server = new ThreadedTftp<string>({
      hosts: ['127.0.0.1'],
      port: 0,
      tries: 2,
      answer: ({ filename }) =>
        filename in files
          ? { kind: 'send', path: join(dir, filename), bytes: files[filename]!.length, tag: filename }
          : { kind: 'refuse', code: 1, message: 'not staged' },
      onBegin: () => seen.begun++,
      onProgress: () => undefined,
      onEnd: (_tag, end, progress, { packets, missing }) =>
        seen.ends.push({ end, packets: packets.length, missing, resent: progress.resent }),
      onRefused: (_peer, _request, _why, _at, untold) => (seen.refused += 1 + untold),
      onLost: () => undefined,
    });
    const { port } = await server.start();
    undo.push(
      () => rmSync(dir, { recursive: true }),
      () => server.stop(),
    );
    return { port, dir, seen, server };
  }
  const file = randomBytes(2_000_000);

  it.skipIf(!has('curl'))('goes on while this thread is busy', async () => {
    const t = await threaded({ f: file });
    const fetched = run('curl', ['-s', '-S', '--tftp-blksize', '1428', '-o', join(t.dir, 'got'), `tftp://127.0.0.1:${t.port}/f`], t.dir);
    await expect.poll(() => t.seen.begun).toBe(1);
    // Nothing is answered here for a while; curl would give up on nobody's silence.
    stall(1500);
    expect((await fetched).code).toBe(0);
    expect(sha(readFileSync(join(t.dir, 'got')))).toBe(sha(file));
    await expect.poll(() => t.seen.ends.length).toBe(1);
    expect(t.seen.ends[0]).toMatchObject({ end: { kind: 'done' }, packets: 220 });
    expect(t.seen.ends[0]!.missing).toBeGreaterThan(1000);
  });

  it.skipIf(!has('curl'))('holds out against ten thousand requests of one address, and against those that never acknowledge', async () => {
    const t = await threaded({ f: file });
    const flood = createSocket('udp4');
    const silent = await Promise.all(Array.from({ length: 40 }, () => socketTo()));
    for (const s of silent) s.send(rrq('f', 'octet', 'blksize', '65464', 'windowsize', '65535', 'timeout', '1'), t.port);
    // One address has sixteen at most; who is refused is told so.
    await expect.poll(() => t.seen.begun).toBe(16);
    for (let i = 0; i < 10_000; i++) {
      flood.send(rrq(`nothing-${i}`, 'octet', ...Array.from({ length: 30 }, (_, o) => `o${o}`)), t.port, '127.0.0.1');
      if (i % 200 === 0) await new Promise((resolve) => setImmediate(resolve));
    }
    const other = ['--interface', '127.0.0.2'];
    const { code, out } = await run(
      'curl',
      ['-s', '-S', ...other, '--tftp-blksize', '1428', '-o', join(t.dir, 'got'), `tftp://127.0.0.1:${t.port}/f`],
      t.dir,
    );
    expect(code, out).toBe(0);
    expect(sha(readFileSync(join(t.dir, 'got')))).toBe(sha(file));
    // Nothing is held for those that fell silent.
    await expect.poll(() => t.server.active).toBe(0);
    expect(t.seen.ends.filter((e) => e.end.kind === 'silent')).toHaveLength(16);
    flood.close();
  });

  it('says that a port is taken, and can be stopped in the middle', async () => {
    const t = await threaded({ f: file });
    const second = new ThreadedTftp<string>({
      hosts: ['127.0.0.1'],
      port: t.port,
      answer: () => ({ kind: 'refuse', code: 1, message: '' }),
      onBegin: () => undefined,
      onProgress: () => undefined,
      onEnd: () => undefined,
      onRefused: () => undefined,
      onLost: () => undefined,
    });
    await expect(second.start()).rejects.toMatchObject({ fault: 'refused' });
    const c = await socketTo();
    c.send(rrq('f', 'octet'), t.port);
    await c.next();
    await t.server.stop('closing');
    expect((await c.next()).packet.readUInt16BE(0)).toBe(5);
  });
});

describe('the packets that are kept', () => {
  it('are the first twenty and the last two hundred, whatever passed between', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 900 }), (count) => {
        const trace = new PacketTrace();
        for (let i = 0; i < count; i++) {
          const packet = Buffer.alloc(40);
          // Blocks and acknowledgements, and now and then something rare.
          packet.writeUInt32BE(((i % 97 === 5 ? 5 : i % 2 === 0 ? 3 : 4) << 16) + i);
          trace.note(i % 2 === 0, packet, 4 + (i % 30), i);
        }
        const { packets, missing } = trace.packets();
        expect(packets.length + missing).toBe(count);
        const numbers = packets.map((p) => Buffer.from(p.head).readUInt16BE(2));
        const wanted = Array.from({ length: count }, (_, i) => i).filter((i) => i < 20 || i >= Math.max(20, count - 200));
        expect(numbers).toEqual(wanted);
        for (const [n, p] of packets.entries())
          expect([p.out, p.length, p.at]).toEqual([wanted[n]! % 2 === 0, 4 + (wanted[n]! % 30), wanted[n]]);
      }),
      { numRuns: 60 },
    );
  });
});
