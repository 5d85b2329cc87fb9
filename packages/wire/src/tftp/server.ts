import { createSocket, type Socket } from 'node:dgram';
import { readFileSync } from 'node:fs';
import { WireError } from '../errors.js';
import { Pacer, type SharedLink } from '../pacer.js';
import { largestNetascii, octetOnly, toNetascii } from './netascii.js';
import { negotiate, type Agreed } from './options.js';
import { decodeRequest, encodeError, errorCodes, MalformedRequest, opcodes, type TftpRequest } from './packets.js';
import type { TracedPacket } from './trace.js';
import { ReceivingTransfer } from './receiving.js';
import { SendingTransfer, type TransferEnd, type TransferProgress } from './transfer.js';

export interface TftpPeer {
  readonly address: string;
  readonly port: number;
}

/** An address of ours: where a request came in, or where to listen. */
export interface TftpAddress {
  readonly host: string;
  readonly port: number;
}

/** What to do with a request: the file to send or how much to take, and whatever the caller ties to it; or a refusal. */
export type TftpAnswer<Tag> =
  | { readonly kind: 'send'; readonly path: string; readonly bytes: number; readonly tag: Tag; readonly link?: SharedLink | null }
  | { readonly kind: 'take'; readonly mostBytes: number; readonly tag: Tag }
  | { readonly kind: 'refuse'; readonly code: number; readonly message: string };

export type Packets = { readonly packets: readonly TracedPacket[]; readonly missing: number; readonly port: number | null };

/** A transfer in either direction. */
export type ServedTransfer = Pick<SendingTransfer, 'start' | 'stop' | 'heard' | 'packets' | 'progress'>;

export interface TftpServerOptions<Tag> {
  /** Where to listen: one address, or several. Port 0 chooses a free one, the same for all. */
  readonly host: string | readonly string[];
  readonly port: number;
  readonly answer: (request: TftpRequest, peer: TftpPeer, at: TftpAddress) => TftpAnswer<Tag> | Promise<TftpAnswer<Tag>>;
  readonly onBegin?: (tag: Tag, peer: TftpPeer, request: TftpRequest, agreed: Agreed, transfer: ServedTransfer) => void;
  readonly onProgress?: (tag: Tag, progress: TransferProgress) => void;
  /** `content` is what was taken, where something was to be taken and all of it came. */
  readonly onEnd?: (tag: Tag, end: TransferEnd, progress: TransferProgress, packets: () => Packets, content: Buffer | null) => void;
  readonly onRefused?: (peer: TftpPeer, request: TftpRequest | null, why: string, at: TftpAddress) => void;
  /** A receiver counts as gone after so many times the agreed timeout (5 s when none was agreed) without a word. */
  readonly tries?: number;
  /** The most transfers at once; requests beyond it are refused, so that a flood holds no memory. */
  readonly mostTransfers?: number;
  /** The most from one address; a device has one or two, a flood has thousands. */
  readonly mostFromOne?: number;
}

/** Errors are sent to one address at most this often in a second; a flood is not answered packet by packet. */
const mostErrorsPerSecond = 50;

/**
 * A TFTP server: RFC 1350 with the options of RFC 2347, 2348, 2349 and 7440. Which file a request gets, and whether it gets
 * any, is the caller's decision, and so is what is taken; the server reads no path of its own and writes none.
 */
export class TftpServer<Tag> {
  readonly #options: TftpServerOptions<Tag>;
  readonly #sockets: Socket[] = [];
  readonly #transfers = new Map<string, ServedTransfer>();
  /** Requests whose answer is still being decided, and transfers, by peer. */
  readonly #taken = new Set<string>();
  readonly #perAddress = new Map<string, number>();
  readonly #errors = { second: 0, counts: new Map<string, number>() };
  #stopped = false;

  constructor(options: TftpServerOptions<Tag>) {
    this.#options = options;
  }

  /** @throws WireError when the port is taken or not allowed. */
  async start(): Promise<{ host: string; port: number }> {
    const { host, port } = this.#options;
    const hosts = typeof host === 'string' ? [host] : host;
    let bound = port;
    for (const one of hosts) {
      try {
        bound = await this.#listen(one, bound);
      } catch (error) {
        await this.stop();
        throw error;
      }
    }
    return { host: hosts[0]!, port: bound };
  }

  async #listen(host: string, port: number): Promise<number> {
    const socket = createSocket({ type: host.includes(':') ? 'udp6' : 'udp4', recvBufferSize: 1 << 20 });
    await new Promise<void>((resolve, reject) => {
      socket.once('error', (error: NodeJS.ErrnoException) =>
        reject(new WireError('refused', `cannot listen for TFTP on ${host}:${port}: ${error.code ?? error.message}`)),
      );
      socket.bind({ address: host, port }, resolve);
    });
    socket.removeAllListeners('error');
    socket.on('error', () => undefined);
    const at = { host, port: socket.address().port };
    socket.on('message', (datagram, from) => void this.#request(datagram, from, socket, at));
    this.#sockets.push(socket);
    return at.port;
  }

  get active(): number {
    return this.#transfers.size;
  }

  /** Stops listening and ends every transfer, telling the receivers. */
  async stop(why = 'the store is closing'): Promise<void> {
    this.#stopped = true;
    for (const transfer of this.#transfers.values()) transfer.stop(why);
    await Promise.all(this.#sockets.splice(0).map((s) => new Promise<void>((resolve) => s.close(resolve))));
  }

  async #request(datagram: Buffer, from: TftpPeer, socket: Socket, at: TftpAddress): Promise<void> {
    const peer = { address: from.address, port: from.port };
    const refuse = (code: number, message: string, request: TftpRequest | null): void => {
      if (this.#mayAnswer(peer.address)) socket.send(encodeError(code, message), peer.port, peer.address);
      this.#options.onRefused?.(peer, request, message, at);
    };
    let request: TftpRequest;
    try {
      request = decodeRequest(datagram);
    } catch (error) {
      // What follows a transfer that is over, or an error of ours, asks for nothing.
      if (isStray(datagram)) return;
      if (error instanceof MalformedRequest) refuse(errorCodes.illegalOperation, `not a request: ${error.message}`, null);
      return;
    }
    const key = `${peer.address}/${peer.port}`;
    // A repeated request from the same port means that our first answer was lost. What we send repeats it by itself, quickly; of what
    // is sent to us, the answer is repeated only when it is asked for.
    const moving = this.#transfers.get(key);
    if (moving instanceof ReceivingTransfer) moving.again();
    if (this.#taken.has(key)) return;
    if (request.mode !== 'octet' && request.mode !== 'netascii')
      return refuse(errorCodes.undefined, `mode ${request.mode.slice(0, 20)} is not offered, only octet and netascii`, request);
    const already = this.#perAddress.get(peer.address) ?? 0;
    if (this.#taken.size >= (this.#options.mostTransfers ?? 1000) || already >= (this.#options.mostFromOne ?? 16))
      return refuse(errorCodes.undefined, 'too many transfers at once, ask again later', request);
    this.#taken.add(key);
    this.#perAddress.set(peer.address, already + 1);
    const free = (): void => {
      this.#taken.delete(key);
      const left = this.#perAddress.get(peer.address)! - 1;
      if (left === 0) this.#perAddress.delete(peer.address);
      else this.#perAddress.set(peer.address, left);
    };
    const decided = this.#options.answer(request, peer, at);
    const answer = decided instanceof Promise ? await decided : decided;
    if (this.#stopped) return free();
    const not = refusalOf(request, answer);
    if (not !== null || answer.kind === 'refuse') {
      free();
      return refuse(not!.code, not!.message, request);
    }
    const end: EndOf = (done, progress, content) => {
      this.#transfers.delete(key);
      free();
      this.#options.onEnd?.(answer.tag, done, progress, () => transfer.packets(), content);
    };
    const { transfer, agreed } =
      answer.kind === 'take' ? this.#take(request, peer, at, answer, end) : this.#give(request, peer, at, answer, end);
    this.#transfers.set(key, transfer);
    transfer.heard(datagram);
    this.#options.onBegin?.(answer.tag, peer, request, agreed, transfer);
    transfer.start();
  }

  #give(request: TftpRequest, peer: TftpPeer, at: TftpAddress, answer: Give<Tag>, end: EndOf): Served {
    let source: string | Buffer = answer.path;
    let bytes = answer.bytes;
    if (request.mode === 'netascii') {
      source = toNetascii(readFileSync(answer.path));
      bytes = source.length;
    }
    const agreed = negotiate(request.options, bytes);
    const { onProgress } = this.#options;
    const transfer = new SendingTransfer({
      localAddress: at.host,
      peer,
      source,
      fileBytes: bytes,
      agreed,
      pacer: answer.link ? new Pacer(answer.link) : null,
      tries: this.#options.tries ?? 6,
      onProgress: onProgress && ((progress) => onProgress(answer.tag, progress)),
      onEnd: (done, progress) => end(done, progress, null),
    });
    return { transfer, agreed };
  }

  #take(
    request: TftpRequest,
    peer: TftpPeer,
    at: TftpAddress,
    answer: { readonly mostBytes: number; readonly tag: Tag },
    end: EndOf,
  ): Served {
    const announcedBytes = announced(request);
    const agreed = negotiate(request.options, announcedBytes);
    const { onProgress } = this.#options;
    const transfer = new ReceivingTransfer({
      localAddress: at.host,
      peer,
      agreed,
      announcedBytes,
      mostBytes: answer.mostBytes,
      netascii: request.mode === 'netascii',
      tries: this.#options.tries ?? 6,
      onProgress: onProgress && ((progress) => onProgress(answer.tag, progress)),
      onEnd: end,
    });
    return { transfer, agreed };
  }

  #mayAnswer(address: string): boolean {
    const second = Math.floor(performance.now() / 1000);
    if (this.#errors.second !== second) {
      this.#errors.second = second;
      this.#errors.counts.clear();
    }
    const count = (this.#errors.counts.get(address) ?? 0) + 1;
    this.#errors.counts.set(address, count);
    return count <= mostErrorsPerSecond;
  }
}

const isStray = (datagram: Buffer): boolean =>
  datagram.length >= 4 && (datagram.readUInt16BE(0) === opcodes.ack || datagram.readUInt16BE(0) === opcodes.error);

type Give<Tag> = Extract<TftpAnswer<Tag>, { kind: 'send' }>;
type EndOf = (end: TransferEnd, progress: TransferProgress, content: Buffer | null) => void;
interface Served {
  readonly transfer: ServedTransfer;
  readonly agreed: Agreed;
}

/** RFC 2349: what the sender says that it will send; 0 when it does not say. */
const announced = (request: TftpRequest): number => {
  const text = request.options.get('tsize') ?? '';
  return /^\d{1,15}$/.test(text) ? Number(text) : 0;
};

/** Why a request gets nothing, whatever was decided: what is asked for and what is answered must fit. */
export function refusalOf(request: TftpRequest, answer: TftpAnswer<unknown>): { readonly code: number; readonly message: string } | null {
  if (answer.kind === 'refuse') return answer;
  if ((answer.kind === 'take') !== (request.kind === 'wrq'))
    return { code: errorCodes.accessViolation, message: answer.kind === 'take' ? 'this file is not given' : 'this store takes no files' };
  if (answer.kind === 'take' && announced(request) > answer.mostBytes)
    return { code: errorCodes.diskFull, message: `more than ${answer.mostBytes} octets are not taken` };
  if (answer.kind === 'send' && request.mode === 'netascii' && answer.bytes > largestNetascii) return octetOnly;
  return null;
}
