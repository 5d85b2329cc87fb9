import { createSocket } from 'node:dgram';

export interface PullOptions {
  readonly from: string;
  readonly host: string;
  readonly port: number;
  readonly file: string;
  readonly blockSize: number;
  readonly windowSize: number;
  /** Octets in a real second; the device acknowledges no faster. */
  readonly bytesPerSecond: number;
  readonly timeoutMs: number;
  readonly onProgress: (bytes: number, total: number) => void;
  readonly signal: AbortSignal;
  /** What is wrong with this client, or with the line between. */
  readonly quirk?: PullQuirk | null;
}

/** `replies-dropped`: no answer comes in. `ignores-window`: acknowledges every block. `refuses-options`: error 8 to what it asked
 * for. `large-blocks-lost`: asks for large blocks, which never arrive. `stalls`: falls silent in the middle. `restarts-transfer`:
 * begins anew, over and over. `flash-full`: error 3 in the middle. */
export const pullQuirks = [
  'replies-dropped',
  'ignores-window',
  'refuses-options',
  'large-blocks-lost',
  'stalls',
  'restarts-transfer',
  'flash-full',
] as const;
export type PullQuirk = (typeof pullQuirks)[number];

/** A device's own TFTP client, in its own words: it pulls a file into memory, at the pace of its flash. */
export async function pull(options: PullOptions): Promise<Buffer> {
  if (options.quirk !== 'restarts-transfer') return pullOnce(options);
  for (let tries = 0; tries < 4; tries++) await pullOnce(options).catch(() => undefined);
  throw new Error('gave up after four tries');
}

function pullOnce(options: PullOptions): Promise<Buffer> {
  const { quirk } = options;
  return new Promise((resolve, reject) => {
    const socket = createSocket('udp4');
    const blocks: Buffer[] = [];
    let size = quirk === 'large-blocks-lost' ? 8192 : options.blockSize;
    let window = quirk === 'ignores-window' ? 16 : options.windowSize;
    let dead = false;
    /** The middle: where a fault of the middle begins. */
    const middle = (): boolean => total > 0 && got >= total * 0.4;
    let total = 0;
    let got = 0;
    let expected = 1;
    let sinceAck = 0;
    let peerPort: number | null = null;
    let tries = 0;
    let over = false;
    const began = Date.now();
    let timer: NodeJS.Timeout;
    const finish = (error: Error | null): void => {
      if (over) return;
      over = true;
      clearTimeout(timer);
      options.signal.removeEventListener('abort', dark);
      socket.close();
      if (error) reject(error);
      else resolve(Buffer.concat(blocks));
    };
    const request = (): void => {
      const text = `${options.file}\0octet\0blksize\0${size}\0windowsize\0${window}\0tsize\x000\0`;
      socket.send(Buffer.concat([Buffer.from([0, 1]), Buffer.from(text, 'latin1')]), options.port, options.host);
    };
    const ack = (block: number): void => {
      const packet = Buffer.from([0, 4, (block >> 8) & 0xff, block & 0xff]);
      // The pace of the flash: an acknowledgement waits until this much may have been written.
      const due = began + (got / options.bytesPerSecond) * 1000 - Date.now();
      const send = (): void => {
        if (!over && peerPort !== null) socket.send(packet, peerPort, options.host);
      };
      if (due > 2) setTimeout(send, due);
      else send();
    };
    const fail = (code: number, words: string): void => {
      socket.send(Buffer.concat([Buffer.from([0, 5, 0, code]), Buffer.from(`${words}\0`, 'latin1')]), peerPort!, options.host, () =>
        finish(new Error(words)),
      );
    };
    const late = (): void => {
      tries++;
      if (tries > 4) return finish(new Error(peerPort === null ? `no answer from ${options.host}` : 'the other end fell silent'));
      if (peerPort === null) request();
      else if (!dead) ack(expected - 1);
      timer = setTimeout(late, options.timeoutMs);
    };
    const dark = (): void => finish(new Error('power lost'));
    options.signal.addEventListener('abort', dark, { once: true });
    socket.on('error', (error) => finish(error));
    socket.on('message', (packet, from) => {
      if (over || from.address !== options.host || (peerPort !== null && from.port !== peerPort)) return;
      const opcode = packet.readUInt16BE(0);
      if (quirk === 'replies-dropped' || dead) return;
      if (quirk === 'large-blocks-lost' && packet.length > 1500) return;
      if (opcode === 5) return finish(new Error(`told: ${packet.toString('latin1', 4).replace(/\0.*$/, '')}`));
      peerPort = from.port;
      tries = 0;
      clearTimeout(timer);
      timer = setTimeout(late, options.timeoutMs);
      if (opcode === 6) {
        const fields = packet.toString('latin1', 2).split('\0');
        for (let i = 0; i + 1 < fields.length; i += 2) {
          const value = Number(fields[i + 1]);
          if (fields[i] === 'blksize') size = value;
          else if (fields[i] === 'windowsize') window = value;
          else if (fields[i] === 'tsize') total = value;
        }
        if (quirk === 'refuses-options') return fail(8, 'options not wanted');
        return ack(0);
      }
      if (opcode !== 3) return;
      if (quirk === 'flash-full' && middle()) return fail(3, 'flash full');
      if (quirk === 'restarts-transfer' && middle()) return finish(new Error('watchdog'));
      if (quirk === 'stalls' && middle()) {
        dead = true;
        return;
      }
      const block = packet.readUInt16BE(2);
      if (block !== (expected & 0xffff)) {
        // Out of order: say how far we are, once for each window.
        if (sinceAck > 0 || block === ((expected - 1) & 0xffff)) {
          sinceAck = 0;
          ack(expected - 1);
        }
        return;
      }
      const data = Buffer.from(packet.subarray(4));
      blocks.push(data);
      got += data.length;
      expected++;
      sinceAck++;
      options.onProgress(got, total);
      const last = data.length < size;
      if (last || sinceAck >= window || quirk === 'ignores-window') {
        sinceAck = 0;
        ack(expected - 1);
      }
      if (last) setTimeout(() => finish(null), Math.max(0, began + (got / options.bytesPerSecond) * 1000 - Date.now()) + 5);
    });
    socket.bind(0, options.from, () => {
      request();
      timer = setTimeout(late, options.timeoutMs);
    });
  });
}
