import { randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, describe, expect, it } from 'vitest';
import { ThreadedTftp, type Packets, type TransferEnd } from '@barrow/wire';
import { command } from '../../../tests/support/command.js';
import { has } from '../../../tests/support/service.js';
import { bareClient, data, errorTo, rrq, wrq } from './bare-client.js';
import { Relay } from './relay.js';

const undo: (() => unknown)[] = [];
afterEach(async () => {
  for (const step of undo.splice(0).reverse()) await step();
});

interface Taken {
  readonly end: TransferEnd;
  readonly content: Buffer | null;
  readonly packets: Packets;
}

/** A store that takes one file under one name, and nothing else. */
async function store(use: { mostBytes?: number; tries?: number } = {}) {
  const all: Taken[] = [];
  const refused: string[] = [];
  let wake: (() => void) | null = null;
  const server = new ThreadedTftp<string>({
    hosts: ['127.0.0.1'],
    port: 0,
    tries: use.tries ?? 4,
    answer: (request) =>
      request.filename === 'keep-1'
        ? { kind: 'take', mostBytes: use.mostBytes ?? 1 << 20, tag: 'keep-1' }
        : { kind: 'refuse', code: 2, message: 'nothing is awaited under this name' },
    onBegin: () => undefined,
    onProgress: () => undefined,
    onEnd: (_tag, end, _progress, packets, content) => {
      all.push({ end, packets, content: content && Buffer.from(content) });
      wake?.();
    },
    onRefused: (_peer, _request, why) => refused.push(why),
    onLost: () => undefined,
  });
  const { port } = await server.start();
  undo.push(() => server.stop());
  const taken = async (): Promise<Taken> => {
    while (all.length === 0) await new Promise<void>((resolve) => (wake = resolve));
    return all.shift()!;
  };
  return { port, taken, refused, server };
}

const folder = (): string => {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-take-'));
  undo.push(() => rmSync(dir, { recursive: true }));
  return dir;
};
const code = (packet: Buffer) => [packet.readUInt16BE(0), packet.readUInt16BE(2)];

describe('what others send', () => {
  const content = randomBytes(150_000);
  const clients: [string, string, (port: string) => string[], string][] = [
    ['curl', 'curl', (p) => ['-s', '-S', '-T', 'mine', `tftp://127.0.0.1:${p}/keep-1`], ''],
    ['curl, blocks of 1428', 'curl', (p) => ['-s', '-S', '--tftp-blksize', '1428', '-T', 'mine', `tftp://127.0.0.1:${p}/keep-1`], ''],
    ['atftp', 'atftp', (p) => ['-p', '-l', 'mine', '-r', 'keep-1', '127.0.0.1', p], ''],
    [
      'atftp, with a window',
      'atftp',
      (p) => ['--option', 'blksize 1024', '--option', 'windowsize 4', '-p', '-l', 'mine', '-r', 'keep-1', '127.0.0.1', p],
      '',
    ],
    ['tftp-hpa', 'tftp', (p) => ['-m', 'octet', '127.0.0.1', p, '-c', 'put', 'mine', 'keep-1'], ''],
  ];
  it.each(clients)('with %s is taken whole', async (_, name, args) => {
    if (!has(name)) return;
    const s = await store();
    const dir = folder();
    writeFileSync(join(dir, 'mine'), content);
    expect(await command(name, args(String(s.port)), dir)).toMatchObject({ code: 0 });
    const { end, content: got } = await s.taken();
    expect(end).toEqual({ kind: 'done' });
    expect(got?.equals(content)).toBe(true);
  });

  it.each(clients.filter(([name]) => name === 'curl' || name === 'tftp-hpa'))(
    'with %s through a line that loses, doubles and delays is taken whole',
    async (_, name, args) => {
      if (!has(name)) return;
      // Lost several times over, a block takes its sender longer than a device is waited for.
      const s = await store({ tries: 40 });
      const dir = folder();
      // What is lost costs the one 5 s, and the other a moment.
      const small = content.subarray(0, name === 'curl' ? 40_000 : 4000);
      writeFileSync(join(dir, 'mine'), small);
      const relay = new Relay(s.port, { loss: 0.1, twice: 0.1, late: 0.1, seed: 5, endsPass: name === 'curl' });
      const at = await relay.start();
      undo.push(() => relay.stop());
      expect(await command(name, args(String(at)), dir)).toMatchObject({ code: 0 });
      expect((await s.taken()).content?.equals(small)).toBe(true);
      expect(relay.lost).toBeGreaterThan(0);
    },
  );

  it('as text comes with the line ends that it had', async () => {
    if (!has('tftp')) return;
    const s = await store();
    const dir = folder();
    writeFileSync(join(dir, 'mine'), 'one\ntwo\rthree\r\nend\n');
    await command('tftp', ['-m', 'netascii', '127.0.0.1', String(s.port), '-c', 'put', 'mine', 'keep-1'], dir);
    expect((await s.taken()).content?.toString()).toBe('one\ntwo\rthree\r\nend\n');
  });
});

describe('a file that comes in', () => {
  const client = () => bareClient(undo);

  it('is refused under any other name, and nothing is given under its own', async () => {
    const s = await store();
    const c = await client();
    c.send(wrq('keep-2', 'octet'), s.port);
    expect(code((await c.next()).packet)).toEqual([5, 2]);
    c.send(rrq('keep-1', 'octet'), s.port);
    expect(code((await c.next()).packet)).toEqual([5, 2]);
    c.send(wrq('../keep-1', 'octet'), s.port);
    expect(code((await c.next()).packet)).toEqual([5, 2]);
    expect(s.server.active).toBe(0);
    expect(s.refused).toEqual(['nothing is awaited under this name', 'this file is not given', 'nothing is awaited under this name']);
  });

  it('is refused when it says that it is too large, and ended when it becomes so', async () => {
    const s = await store({ mostBytes: 1000 });
    const c = await client();
    c.send(wrq('keep-1', 'octet', 'tsize', '1001'), s.port);
    expect(code((await c.next()).packet)).toEqual([5, 3]);
    const liar = await client();
    liar.send(wrq('keep-1', 'octet', 'tsize', '10'), s.port);
    const { port, packet } = await liar.next();
    expect(packet.readUInt16BE(0)).toBe(6);
    liar.send(data(1, Buffer.alloc(512)), port);
    expect(code((await liar.next()).packet)).toEqual([4, 1]);
    liar.send(data(2, Buffer.alloc(512)), port);
    expect(code((await liar.next()).packet)).toEqual([5, 3]);
    expect((await s.taken()).end).toEqual({ kind: 'local-fault', message: 'it is larger than 1000 octets' });
  });

  it.each([
    ['fewer', 500],
    ['more', 700],
  ])('with %s octets than its sender said is not taken as whole, and its sender is told', async (_, bytes) => {
    const s = await store();
    const c = await client();
    c.send(wrq('keep-1', 'octet', 'tsize', '600', 'blksize', '1000'), s.port);
    c.send(data(1, Buffer.alloc(bytes)), (await c.next()).port);
    expect(await errorTo(c)).toBe(`${bytes} octets came, 600 were announced`);
    expect(await s.taken()).toMatchObject({ end: { kind: 'not-whole' }, content: null });
  });

  it('is answered again when it is asked for again, and hurried by nobody before', async () => {
    const s = await store();
    const c = await client();
    const request = wrq('keep-1', 'octet', 'blksize', '8');
    c.send(request, s.port);
    const first = await c.next();
    c.send(request, s.port);
    expect(await c.next()).toEqual(first);
    c.send(data(1, '--------'), first.port);
    expect(code((await c.next()).packet)).toEqual([4, 1]);
    // Once begun, the answer is not given again: there are senders that skip a block when they hear it.
    c.send(request, s.port);
    c.send(data(2, 'end'), first.port);
    expect(code((await c.next()).packet)).toEqual([4, 2]);
    const { end, packets } = await s.taken();
    expect(end).toEqual({ kind: 'done' });
    expect(packets.packets.filter((p) => p.out && p.head[1] === 6)).toHaveLength(2);
  });

  it('is acknowledged again when it comes again, and where a window has a hole (RFC 7440 §4)', async () => {
    const s = await store();
    const c = await client();
    c.send(wrq('keep-1', 'octet', 'blksize', '8', 'windowsize', '3'), s.port);
    const { port } = await c.next();
    c.send(data(1, '--------'), port);
    // The second is lost: the first is acknowledged once, and the third does not count.
    c.send(data(3, 'XXXXXXXX'), port);
    expect(code((await c.next()).packet)).toEqual([4, 1]);
    c.send(data(2, '========'), port);
    c.send(data(3, '++++++++'), port);
    c.send(data(4, 'end'), port);
    expect(code((await c.next()).packet)).toEqual([4, 4]);
    const { content, packets } = await s.taken();
    expect(content?.toString()).toBe('--------========++++++++end');
    // The sender did not hear that: what has ended is acknowledged again.
    c.send(data(4, 'end'), port);
    expect(code((await c.next()).packet)).toEqual([4, 4]);
    // Settings are secret: evidence of what came has no more of a block than its number.
    const blocks = packets.packets.filter((p) => p.head[1] === 3);
    expect(blocks.map((p) => [p.head.length, p.length])).toEqual([
      [4, 12],
      [4, 12],
      [4, 12],
      [4, 12],
      [4, 7],
    ]);
  });

  it('that has no end is given up, and one that its sender ends is heard', async () => {
    const s = await store({ tries: 1 });
    const c = await client();
    c.send(wrq('keep-1', 'octet', 'timeout', '1'), s.port);
    const { port } = await c.next();
    c.send(data(1, Buffer.alloc(512)), port);
    expect((await s.taken()).end.kind).toBe('silent');
    expect(await errorTo(c)).toBe('given up: nothing more came');
    const other = await client();
    other.send(wrq('keep-1', 'octet'), s.port);
    const at = (await other.next()).port;
    other.send(Buffer.concat([Buffer.from([0, 5, 0, 0]), Buffer.from('cannot read it\0')]), at);
    expect((await s.taken()).end).toEqual({ kind: 'ended-by-peer', code: 0, message: 'cannot read it' });
  });

  it('with blocks larger than agreed, or from a third port, is not believed', async () => {
    const s = await store();
    const [c, stranger] = [await client(), await client()];
    c.send(wrq('keep-1', 'octet'), s.port);
    const { port } = await c.next();
    stranger.send(data(1, 'not mine'), port);
    expect(code((await stranger.next()).packet)).toEqual([5, 5]);
    c.send(data(1, Buffer.alloc(600)), port);
    expect(code((await c.next()).packet)).toEqual([5, 4]);
    expect((await s.taken()).content).toBeNull();
  });
});
