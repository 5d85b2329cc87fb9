import { createSocket, type Socket } from 'node:dgram';
import { WireError } from '../errors.js';
import { negotiate, type Agreed } from './options.js';
import { decodeRequest, encodeError, errorCodes, MalformedRequest, type ReadRequest } from './packets.js';
import { SendingTransfer, type TransferEnd, type TransferProgress } from './transfer.js';

export interface TftpPeer {
  readonly address: string;
  readonly port: number;
}

/** What to do with a request: the file to send and whatever the caller ties to it, or a refusal. */
export type TftpAnswer<Tag> =
  | { readonly kind: 'send'; readonly path: string; readonly bytes: number; readonly tag: Tag }
  | { readonly kind: 'refuse'; readonly code: number; readonly message: string };

export interface TftpServerOptions<Tag> {
  readonly host: string;
  /** 0 chooses a free port. */
  readonly port: number;
  readonly answer: (request: ReadRequest, peer: TftpPeer) => TftpAnswer<Tag>;
  readonly onBegin?: (tag: Tag, peer: TftpPeer, request: ReadRequest, agreed: Agreed, stop: (why: string) => void) => void;
  readonly onProgress?: (tag: Tag, progress: TransferProgress) => void;
  readonly onEnd?: (tag: Tag, end: TransferEnd, progress: TransferProgress) => void;
  readonly onRefused?: (peer: TftpPeer, request: ReadRequest | null, why: string) => void;
  /** A receiver counts as gone after so many times the agreed timeout (5 s when none was agreed) without a word. */
  readonly tries?: number;
  /** The most transfers at once; requests beyond it are refused, so that a flood holds no memory. */
  readonly mostTransfers?: number;
}

/**
 * A read-only TFTP server: RFC 1350 in octet mode, with the options of RFC 2347, 2348, 2349 and 7440.
 * Which file a request gets, and whether it gets any, is the caller's decision; the server reads no path of its own.
 */
export class TftpServer<Tag> {
  readonly #options: TftpServerOptions<Tag>;
  #socket: Socket | null = null;
  readonly #transfers = new Map<string, SendingTransfer>();

  constructor(options: TftpServerOptions<Tag>) {
    this.#options = options;
  }

  /** @throws WireError when the port is taken or not allowed. */
  async start(): Promise<{ host: string; port: number }> {
    const { host, port } = this.#options;
    const socket = createSocket({ type: host.includes(':') ? 'udp6' : 'udp4', recvBufferSize: 1 << 20 });
    await new Promise<void>((resolve, reject) => {
      socket.once('error', (error: NodeJS.ErrnoException) =>
        reject(new WireError('refused', `cannot listen for TFTP on ${host}:${port}: ${error.code ?? error.message}`)),
      );
      socket.bind({ address: host, port }, resolve);
    });
    socket.removeAllListeners('error');
    socket.on('error', () => undefined);
    socket.on('message', (datagram, from) => this.#request(datagram, from));
    this.#socket = socket;
    return { host, port: socket.address().port };
  }

  get active(): number {
    return this.#transfers.size;
  }

  /** Stops listening and ends every transfer, telling the receivers. */
  async stop(why = 'the store is closing'): Promise<void> {
    for (const transfer of this.#transfers.values()) transfer.stop(why);
    await new Promise<void>((resolve) => (this.#socket ? this.#socket.close(resolve) : resolve()));
    this.#socket = null;
  }

  #request(datagram: Buffer, from: TftpPeer): void {
    const peer = { address: from.address, port: from.port };
    const refuse = (code: number, message: string, request: ReadRequest | null): void => {
      this.#socket?.send(encodeError(code, message), peer.port, peer.address);
      this.#options.onRefused?.(peer, request, message);
    };
    let request: ReadRequest;
    try {
      request = decodeRequest(datagram);
    } catch (error) {
      if (error instanceof MalformedRequest) refuse(errorCodes.illegalOperation, `not a request: ${error.message}`, null);
      return;
    }
    const key = `${peer.address}/${peer.port}`;
    // A repeated request from the same port means that our first answer was lost; that transfer repeats it by itself.
    if (this.#transfers.has(key)) return;
    if (request.kind === 'wrq') return refuse(errorCodes.accessViolation, 'this store takes no files', request);
    if (request.mode !== 'octet')
      return refuse(errorCodes.undefined, `mode ${request.mode.slice(0, 20)} is not offered, only octet`, request);
    if (this.#transfers.size >= (this.#options.mostTransfers ?? 1000))
      return refuse(errorCodes.undefined, 'too many transfers at once, ask again later', request);
    const answer = this.#options.answer(request, peer);
    if (answer.kind === 'refuse') return refuse(answer.code, answer.message, request);
    const agreed = negotiate(request.options, answer.bytes);
    const transfer = new SendingTransfer({
      localAddress: this.#options.host,
      peer,
      path: answer.path,
      fileBytes: answer.bytes,
      agreed,
      tries: this.#options.tries ?? 6,
      onProgress: (progress) => this.#options.onProgress?.(answer.tag, progress),
      onEnd: (end, progress) => {
        this.#transfers.delete(key);
        this.#options.onEnd?.(answer.tag, end, progress);
      },
    });
    this.#transfers.set(key, transfer);
    this.#options.onBegin?.(answer.tag, peer, request, agreed, (why) => transfer.stop(why));
    transfer.start();
  }
}
