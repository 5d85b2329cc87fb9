import { spawn, type ChildProcess } from 'node:child_process';
import { createSocket, type Socket } from 'node:dgram';
import { chmodSync, existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { randomBytes } from 'node:crypto';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { decodeRequest, putTftp, TftpServer, type TftpPut, type WireError } from '@barrow/wire';

const daemon = '/usr/sbin/in.tftpd';
const host = '127.0.0.1';

async function bound(port = 0): Promise<{ socket: Socket; port: number }> {
  const socket = createSocket('udp4');
  await new Promise<void>((resolve) => socket.bind(port, host, resolve));
  return { socket, port: socket.address().port };
}

/** A port that nobody has. */
async function free(): Promise<number> {
  const { socket, port } = await bound();
  await new Promise<void>((resolve) => socket.close(resolve));
  return port;
}

describe('a file that is sent to who listens for it', () => {
  let dir: string;
  let content: Buffer;
  let put: Omit<TftpPut, 'port'>;
  beforeEach(() => {
    dir = mkdtempSync(join(tmpdir(), 'barrow-put-'));
    chmodSync(dir, 0o777);
    content = randomBytes(300_000);
    writeFileSync(join(dir, 'mine'), content);
    put = { host, name: 'theirs', path: join(dir, 'mine'), bytes: content.length, limitMs: 60_000 };
  });
  afterEach(() => rmSync(dir, { recursive: true, force: true }));

  describe.skipIf(!existsSync(daemon) || process.getuid?.() !== 0)("by Debian's own server", () => {
    let server: ChildProcess;
    let port: number;
    const begin = async (...more: string[]): Promise<void> => {
      port = await free();
      server = spawn(daemon, ['-L', ...more, '-u', 'root', '-a', `${host}:${port}`, '-s', dir], { stdio: 'ignore' });
      await new Promise((resolve) => server.once('spawn', resolve));
    };
    afterEach(() => {
      server.kill();
    });

    it('comes whole, though it is asked before it listens, and tells how far it is', async () => {
      await begin('-c');
      let last = 0;
      await putTftp({ ...put, port, onSent: (octets) => (last = octets) });
      expect(readFileSync(join(dir, 'theirs')).equals(content)).toBe(true);
      expect(last).toBe(content.length);
    });

    it('comes whole to one that takes no options', async () => {
      await begin('-c', '-r', 'blksize', '-r', 'tsize');
      await putTftp({ ...put, port });
      expect(readFileSync(join(dir, 'theirs')).equals(content)).toBe(true);
    });

    it('is refused in the words of the one who does not want it', async () => {
      await begin();
      // Without -c only a file that is there already may be written.
      await expect(putTftp({ ...put, port })).rejects.toMatchObject({
        fault: 'refused',
        detail: expect.stringContaining('File not found') as string,
      });
    });
  });

  it('says that nobody listens, after as long as it was told to try', async () => {
    const port = await free();
    await expect(putTftp({ ...put, port, limitMs: 10 })).rejects.toMatchObject({
      fault: 'timeout',
      detail: `nobody took a file by TFTP at ${host} port ${port} in 0 s`,
    });
  });

  it('asks again until somebody listens', async () => {
    const { socket, port } = await bound();
    const asked = new Promise<number>((resolve) => {
      let times = 0;
      socket.on('message', () => ++times === 2 && resolve(times));
    });
    let taken: (got: Buffer | null) => void = () => undefined;
    const whole = new Promise<Buffer | null>((resolve) => (taken = resolve));
    const sent = putTftp({ ...put, port });
    await asked;
    await new Promise<void>((resolve) => socket.close(resolve));
    const late = new TftpServer<null>({
      host,
      port,
      answer: () => ({ kind: 'take', mostBytes: 1 << 20, tag: null }),
      onEnd: (_tag, _end, _progress, _packets, got) => taken(got),
    });
    await late.start();
    await sent;
    expect((await whole)?.equals(content)).toBe(true);
    await late.stop();
  });

  it('ends when it is told to, and tells the other end', async () => {
    const { socket, port } = await bound();
    const abort = new AbortController();
    const said: Buffer[] = [];
    const told = new Promise<void>((resolve) =>
      socket.on('message', (packet, from) => {
        said.push(packet);
        if (said.length === 1) socket.send(Buffer.from([0, 4, 0, 0]), from.port, from.address);
        else if (packet.readUInt16BE(0) === 3) abort.abort();
        else resolve();
      }),
    );
    await expect(putTftp({ ...put, port, signal: abort.signal })).rejects.toMatchObject({
      fault: 'cancelled',
    } satisfies Partial<WireError>);
    await told;
    expect(decodeRequest(said[0]!)).toMatchObject({ kind: 'wrq', filename: 'theirs', mode: 'octet' });
    expect(said.at(-1)!.readUInt16BE(0)).toBe(5);
    socket.close();
  });

  it('names what the other end said when it breaks it off', async () => {
    const { socket, port } = await bound();
    socket.on('message', (packet, from) =>
      socket.send(
        packet.readUInt16BE(0) === 2 ? Buffer.from([0, 4, 0, 0]) : Buffer.from('\0\x05\0\x03no room\0', 'latin1'),
        from.port,
        from.address,
      ),
    );
    await expect(putTftp({ ...put, port })).rejects.toMatchObject({ fault: 'refused', detail: 'it ended with error 3: no room' });
    socket.close();
  });
});
