import type { Socket } from 'node:dgram';
import { fromNetascii } from './netascii.js';
import { ownNow } from '../own-time.js';
import { ownSocket } from './own-socket.js';
import { encodeAck, encodeError, encodeOack, errorCodes, opcodes, readError } from './packets.js';
import { PacketTrace, type TracedPacket } from './trace.js';
import type { TransferBegin, TransferEnd, TransferProgress } from './transfer.js';

export interface ReceivingInput extends TransferBegin {
  /** What the sender said that it has (RFC 2349); 0: it said nothing. */
  readonly announcedBytes: number;
  /** More is not taken: it is held in memory until it is whole. */
  readonly mostBytes: number;
  readonly netascii: boolean;
  /** The content is there when it ended as `done`. */
  readonly onEnd: (end: TransferEnd, progress: TransferProgress, content: Buffer | null) => void;
}

const usualTimeout = 5000;
/** An acknowledgement is sent again after so long, and so many times quickly. */
const firstWait = 500;
const quickTries = 2;
/**
 * RFC 1350 §6: who acknowledged the last block waits for a while, in case that this was lost. Senders try again every five or six
 * seconds, for an hour if nobody answers; each try begins the wait anew.
 */
const lingerMs = 30_000;

/** Takes one file from one sender, at a port of its own (RFC 1350 §4), into memory. */
export class ReceivingTransfer {
  readonly #input: ReceivingInput;
  readonly #timeout: number;
  readonly #socket: Socket;
  readonly #blocks: Buffer[] = [];
  readonly #trace = new PacketTrace();
  #bytes = 0;
  /** The last block that came in order; it does not roll over. */
  #block = 0;
  #sinceAck = 0;
  #gapTold = false;
  #resent = 0;
  #acks = 0;
  #tries = 0;
  #heardAt = ownNow();
  #timer: NodeJS.Timeout | null = null;
  #whole = false;
  #port: number | null = null;
  #ended = false;

  constructor(input: ReceivingInput) {
    this.#input = input;
    this.#timeout = input.agreed.timeout === null ? usualTimeout : input.agreed.timeout * 1000;
    this.#socket = ownSocket(input.localAddress);
  }

  /** The request came again: its answer was lost. */
  again(): void {
    if (this.#block === 0 && this.#port !== null) this.#repeat();
  }

  start(): void {
    this.#socket.on('error', (error) => this.#end({ kind: 'local-fault', message: error.message }));
    this.#socket.on('message', (packet, from) => this.#receive(packet, from.address, from.port));
    this.#socket.bind({ port: 0, address: this.#input.localAddress }, () => {
      if (this.#ended) return;
      this.#port = this.#socket.address().port;
      this.#acknowledge();
      this.#arm();
    });
  }

  /** Ends the transfer from our side, telling the sender. */
  stop(message: string): void {
    if (this.#whole) return this.#close();
    this.#send(encodeError(errorCodes.undefined, message));
    this.#end({ kind: 'stopped', why: message });
  }

  get progress(): TransferProgress {
    return {
      bytes: this.#bytes,
      totalBytes: this.#input.announcedBytes,
      acknowledgedBlock: this.#block,
      resent: this.#resent,
      acks: this.#acks,
      singleSteps: 0,
      tries: this.#tries,
      silentMs: Math.round(ownNow() - this.#heardAt),
    };
  }

  /** Takes the request into the trace; it came in at the server's port. */
  heard(request: Buffer): void {
    this.#trace.note(false, request, request.length, performance.now());
  }

  packets(): { readonly packets: TracedPacket[]; readonly missing: number; readonly port: number | null } {
    return this.#trace.told(this.#port);
  }

  #send(packet: Buffer): void {
    if (this.#ended && !this.#whole) return;
    this.#trace.note(true, packet, packet.length, performance.now());
    const { peer } = this.#input;
    this.#socket.send(packet, peer.port, peer.address);
  }

  #acknowledge(): void {
    this.#sinceAck = 0;
    const { acknowledge } = this.#input.agreed;
    // RFC 2347 §2: the options take the place of the acknowledgement of block 0.
    if (this.#block === 0 && acknowledge.size > 0) this.#send(encodeOack(acknowledge));
    else this.#send(encodeAck(this.#block));
  }

  #receive(packet: Buffer, address: string, port: number): void {
    const { peer, agreed, mostBytes } = this.#input;
    if (address !== peer.address || port !== peer.port) {
      this.#socket.send(encodeError(errorCodes.unknownTransferId, 'this port serves another transfer'), port, address);
      return;
    }
    if (packet.length < 4) return;
    const opcode = packet.readUInt16BE(0);
    // What settings say is kept sealed, and nowhere else: of a block only its header is kept as evidence.
    this.#trace.note(false, opcode === opcodes.data ? packet.subarray(0, 4) : packet, packet.length, performance.now());
    if (opcode === opcodes.error) return this.#end({ kind: 'ended-by-peer', ...readError(packet) });
    if (opcode !== opcodes.data) return;
    const ahead = (packet.readUInt16BE(2) - (this.#block & 0xffff)) & 0xffff;
    if (ahead !== 1 || this.#whole) {
      // The last one again: our acknowledgement was lost. One further on: something between was lost (RFC 7440 §4), told once.
      const gap = ahead > 1 && ahead <= agreed.windowSize && !this.#gapTold;
      if (ahead === 0 || gap) {
        this.#gapTold = gap;
        if (this.#whole) this.#linger();
        this.#repeat();
      }
      return;
    }
    const data = packet.subarray(4);
    if (data.length > agreed.blockSize) {
      this.#send(encodeError(errorCodes.illegalOperation, `a block of ${data.length} octets, ${agreed.blockSize} were agreed`));
      return this.#end({ kind: 'local-fault', message: `a block of ${data.length} octets came, ${agreed.blockSize} were agreed` });
    }
    if (this.#bytes + data.length > mostBytes) {
      this.#send(encodeError(errorCodes.diskFull, `more than ${mostBytes} octets are not taken`));
      return this.#end({ kind: 'local-fault', message: `it is larger than ${mostBytes} octets` });
    }
    this.#blocks.push(Buffer.from(data));
    this.#bytes += data.length;
    this.#block++;
    this.#acks++;
    this.#sinceAck++;
    this.#gapTold = false;
    this.#heardAt = ownNow();
    this.#tries = 0;
    const last = data.length < agreed.blockSize;
    if (last && this.#missesSome()) return;
    if (last || this.#sinceAck >= agreed.windowSize) this.#acknowledge();
    this.#input.onProgress?.(this.progress);
    if (last) this.#finish();
    else this.#arm();
  }

  /**
   * Whether it ends with fewer or more octets than its sender said that it has (RFC 2349), which is then told so. Some senders skip
   * a block when they hear the answer to their request twice: such a file is nobody's.
   */
  #missesSome(): boolean {
    const { announcedBytes, netascii } = this.#input;
    // As text, what was counted may be what stands in its sender's file.
    if (netascii || announcedBytes === 0 || announcedBytes === this.#bytes) return false;
    this.#send(encodeError(errorCodes.undefined, `${this.#bytes} octets came, ${announcedBytes} were announced`));
    this.#end({ kind: 'not-whole' });
    return true;
  }

  #repeat(): void {
    this.#resent++;
    this.#acknowledge();
  }

  #arm(): void {
    if (this.#timer) clearTimeout(this.#timer);
    if (this.#ended) return;
    // Some senders ignore what was acknowledged before, until a timer of their own runs out, which every packet of ours starts
    // anew: they are left in peace for longer than such a timer usually is.
    // Before the first block nothing is hurried: who did not hear the answer asks again, and who hears it twice may skip a block.
    const wait = this.#block > 0 && this.#tries < quickTries ? firstWait * 2 ** this.#tries : this.#timeout * 1.2;
    this.#timer = setTimeout(() => this.#due(), wait);
  }

  /** As in a transfer that sends: what arrived while we were busy is heard before anybody is called late. */
  #due(): void {
    const heard = this.#acks;
    setImmediate(() => {
      if (!this.#ended && this.#acks === heard) this.#late();
    });
  }

  #late(): void {
    this.#tries++;
    if (ownNow() - this.#heardAt >= this.#input.tries * this.#timeout) {
      // Who is there all the same, and hears us only now and then, need not go on for an hour.
      this.#send(encodeError(errorCodes.undefined, 'given up: nothing more came'));
      return this.#end({ kind: 'silent', tries: this.#tries });
    }
    this.#repeat();
    this.#arm();
  }

  /** All of it is there; the port stays open for a while, because the last acknowledgement may be lost. */
  #finish(): void {
    this.#whole = true;
    this.#linger();
    this.#socket.unref();
    const content = Buffer.concat(this.#blocks.splice(0));
    this.#ended = true;
    this.#input.onEnd({ kind: 'done' }, this.progress, this.#input.netascii ? fromNetascii(content) : content);
  }

  #linger(): void {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#close(), lingerMs).unref();
  }

  #end(end: TransferEnd): void {
    if (this.#whole) return this.#close();
    if (this.#ended) return;
    this.#ended = true;
    this.#close();
    this.#blocks.length = 0;
    this.#input.onEnd(end, this.progress, null);
  }

  #close(): void {
    if (this.#timer) clearTimeout(this.#timer);
    try {
      this.#socket.close();
    } catch {
      // It is closed, or never opened.
    }
  }
}
