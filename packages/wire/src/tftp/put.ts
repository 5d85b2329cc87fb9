import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownNow, ownTimeout, type OwnTimer } from '../own-time.js';
import { Pacer, type SharedLink } from '../pacer.js';
import type { Agreed } from './options.js';
import { ownSocket } from './own-socket.js';
import { encodeRequest, opcodes, readError } from './packets.js';
import { SendingTransfer, type TransferEnd } from './transfer.js';

/** A file that is sent to somebody who listens for it. */
export interface TftpPut {
  readonly host: string;
  readonly port: number;
  /** The name under which it is sent. */
  readonly name: string;
  readonly path: string;
  readonly bytes: number;
  readonly link?: SharedLink | null;
  /** How long nobody may answer, and how long nothing may move, in milliseconds of our own time. */
  readonly limitMs: number;
  readonly signal?: AbortSignal | undefined;
  readonly onSent?: ((octets: number) => void) | undefined;
}

/** A boot loader listens for a few seconds: it is asked again this often until it does. */
const askEvery = 1000;
/** Fits in a frame with its headers (RFC 2348); who takes no options gets 512. */
const blockSize = 1428;

/**
 * Sends a file to a TFTP server (RFC 1350 write request, with RFC 2347 to 2349 where they are understood).
 *
 * @throws WireError `refused` with its words, `timeout` when nobody answered or nothing moved any more, `cancelled`
 */
export function putTftp(put: TftpPut): Promise<void> {
  const { host, port, name, bytes, limitMs, signal } = put;
  needHost(host);
  const localAddress = host.includes(':') ? '::' : '0.0.0.0';
  const socket = ownSocket(localAddress);
  const request = encodeRequest({
    kind: 'wrq',
    filename: name,
    mode: 'octet',
    options: new Map([
      ['blksize', String(blockSize)],
      ['tsize', String(bytes)],
    ]),
  });
  return new Promise((resolve, reject) => {
    const begun = ownNow();
    let again: OwnTimer | null = null;
    let transfer: SendingTransfer | null = null;
    const finish = (error: WireError | null): void => {
      again?.cancel();
      signal?.removeEventListener('abort', abort);
      if (!transfer) socket.close();
      if (error) reject(error);
      else resolve();
    };
    const abort = (): void => {
      transfer?.stop('the sender was stopped');
      finish(new WireError('cancelled', `what was sent to ${host} was cut off by us`));
    };
    const onEnd = (end: TransferEnd): void => finish(faultOf(end, host));
    const ask = (): void => {
      if (ownNow() - begun >= limitMs) {
        finish(new WireError('timeout', `nobody took a file by TFTP at ${host} port ${port} in ${Math.round(limitMs / 1000)} s`));
        return;
      }
      socket.send(request, port, host, () => undefined);
      again = ownTimeout(ask, askEvery);
    };
    const begin = (from: number, agreed: Agreed): void => {
      again?.cancel();
      socket.removeAllListeners('message');
      socket.removeAllListeners('error');
      transfer = new SendingTransfer({
        socket,
        localAddress,
        peer: { address: host, port: from },
        agreed,
        tries: Math.max(1, Math.ceil(limitMs / 5000)),
        source: put.path,
        fileBytes: bytes,
        pacer: put.link ? new Pacer(put.link) : null,
        onProgress: ({ bytes: sent }) => put.onSent?.(sent),
        onEnd,
      });
      transfer.start();
    };
    // RFC 1350 §4: whoever answers first, from whichever port, is who it goes to.
    socket.on('message', (packet, from) => {
      if (from.address !== host || packet.length < 4) return;
      const opcode = packet.readUInt16BE(0);
      if (opcode === opcodes.error) {
        const { code, message } = readError(packet);
        finish(new WireError('refused', `it does not take ${name}: error ${code}: ${message}`));
      } else if (opcode === opcodes.oack) begin(from.port, agreedIn(packet));
      else if (opcode === opcodes.ack && packet.readUInt16BE(2) === 0) begin(from.port, agreedIn(null));
    });
    // A port that nobody listens at yet is told by ICMP; the next try may find it open.
    socket.on('error', () => undefined);
    signal?.addEventListener('abort', abort, { once: true });
    socket.bind({ port: 0, address: localAddress }, ask);
    if (signal?.aborted) abort();
  });
}

/** What it acknowledged of what it was asked (RFC 2347 §2); without options, what RFC 1350 says. */
function agreedIn(oack: Buffer | null): Agreed {
  const fields = oack?.toString('latin1', 2).split('\0') ?? [];
  const at = fields.findIndex((field, i) => i % 2 === 0 && field.toLowerCase() === 'blksize');
  const told = at < 0 ? 512 : Number(fields[at + 1]);
  const size = told >= 8 && told <= blockSize ? told : 512;
  return { blockSize: size, windowSize: 1, timeout: null, acknowledge: new Map() };
}

function faultOf(end: TransferEnd, host: string): WireError | null {
  switch (end.kind) {
    // A boot loader may begin to write before it has acknowledged the last block; what it has, its return shows.
    case 'done':
    case 'unconfirmed':
      return null;
    case 'ended-by-peer':
      return new WireError('refused', `it ended with error ${end.code}: ${end.message}`);
    case 'stopped':
      return new WireError('cancelled', `what was sent to ${host} was cut off by us`);
    case 'local-fault':
      return new WireError('lost', end.message);
    default:
      return new WireError('timeout', `nothing more was acknowledged by ${host}`);
  }
}
