import { fork, type ChildProcess } from 'node:child_process';
import { createSocket } from 'node:dgram';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { TftpServer } from '@barrow/wire';
import { median, type Measured } from './measure.js';

/** A bare exchange of the same sizes: no options, no retransmission, no file, no bookkeeping; only datagrams back and forth. */
async function bareExchange(
  fileBytes: number,
  shape: { blockSize: number; windowSize: number },
): Promise<{ port: number; close: () => void }> {
  const socket = createSocket({ type: 'udp4', recvBufferSize: 4 << 20, lookup: (address, _options, done) => done(null, address, 4) });
  const { blockSize, windowSize } = shape;
  const last = Math.floor(fileBytes / blockSize) + 1;
  const packet = Buffer.alloc(4 + blockSize, 7);
  packet.writeUInt16BE(3, 0);
  let sent = 0;
  socket.on('message', (message, from) => {
    const opcode = message.readUInt16BE(0);
    if (opcode === 1) {
      sent = 0;
      socket.send(Buffer.from([0, 6]), from.port, '127.0.0.1');
      return;
    }
    if (opcode !== 4 || sent >= last) return;
    for (let i = 0; i < windowSize && sent < last; i++) {
      sent++;
      packet.writeUInt16BE(sent & 0xffff, 2);
      socket.send(packet, 0, sent === last ? 4 + (fileBytes % blockSize) : packet.length, from.port, '127.0.0.1');
    }
  });
  await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
  return { port: socket.address().port, close: () => socket.close() };
}

function ask(child: ChildProcess, order: object): Promise<number> {
  return new Promise((resolve, reject) => {
    const timer = setTimeout(() => reject(new Error('a bench transfer stood still')), 20_000);
    child.once('message', (m: { ns: number }) => {
      clearTimeout(timer);
      resolve(m.ns);
    });
    child.send(order);
  });
}

/** One transfer against the bare bound, as the median of interleaved pairs in two long-lived processes. */
export async function benchTftp(shape: { blockSize: number; windowSize: number }, fileBytes: number, pairs: number): Promise<Measured> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-bench-'));
  const path = join(dir, 'file');
  writeFileSync(path, Buffer.alloc(fileBytes, 7));
  const server = new TftpServer<string>({
    host: '127.0.0.1',
    port: 0,
    answer: () => ({ kind: 'send', path, bytes: fileBytes, tag: 'file' }),
  });
  const { port } = await server.start();
  const bare = await bareExchange(fileBytes, shape);
  const child = fork(fileURLToPath(new URL('./datagram-peer.js', import.meta.url)));
  await new Promise<void>((resolve) => child.once('message', () => resolve()));
  const ratios: number[] = [];
  const ours: number[] = [];
  const bound: number[] = [];
  for (let i = -5; i < pairs; i++) {
    // Who goes first changes, so that a drift of the machine falls on both.
    const order: ['ours' | 'bare', number][] =
      i % 2 === 0
        ? [
            ['ours', port],
            ['bare', bare.port],
          ]
        : [
            ['bare', bare.port],
            ['ours', port],
          ];
    const took = { ours: 0, bare: 0 };
    for (const [who, at] of order) took[who] = await ask(child, { port: at, file: 'file', ...shape });
    if (i < 0) continue;
    ratios.push(took.bare / took.ours);
    ours.push(took.ours);
    bound.push(took.bare);
  }
  child.kill();
  bare.close();
  await server.stop();
  rmSync(dir, { recursive: true });
  const rate = (ns: number): string => `${((fileBytes / ns) * 1000).toFixed(1)} MB/s`;
  return {
    what: `TFTP, one transfer, block ${shape.blockSize}, window ${shape.windowSize}`,
    value: median(ratios),
    unit: 'of the bare datagram exchange',
    aim: 'at least 0.95',
    met: median(ratios) >= 0.95,
    detail: `${rate(median(ours))} against ${rate(median(bound))}, ${pairs} interleaved pairs of ${(fileBytes / 1e6).toFixed(1)} MB`,
  };
}
