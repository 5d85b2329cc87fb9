import type { Socket } from 'node:dgram';
import { closeSync, openSync, readSync } from 'node:fs';
import { encodeError, encodeOack, errorCodes, opcodes, readError } from './packets.js';
import type { Agreed } from './options.js';
import { ownSocket } from './own-socket.js';
import { ownNow } from '../own-time.js';
import type { Pacer } from '../pacer.js';
import { PacketTrace, type TracedPacket } from './trace.js';

/** How a transfer stands; `blocks` counts from 1 and does not roll over. */
export interface TransferProgress {
  readonly bytes: number;
  readonly totalBytes: number;
  readonly acknowledgedBlock: number;
  readonly resent: number;
  /** Acknowledgements that moved it on, that of the options included. */
  readonly acks: number;
  /** Those that moved it on by one block though more had been sent: a receiver that does not keep the window. */
  readonly singleSteps: number;
  /** How often what it waits for was sent again since it was last heard. */
  readonly tries: number;
  /** Milliseconds since it was last heard, or since it began. */
  readonly silentMs: number;
}

export type TransferEnd =
  | { readonly kind: 'done' }
  /** The other end sent an ERROR packet: its code and words. */
  | { readonly kind: 'ended-by-peer'; readonly code: number; readonly message: string }
  | { readonly kind: 'silent'; readonly tries: number }
  /** Every block was sent, and only the last acknowledgement never came: the receiver knows whether it has them. */
  | { readonly kind: 'unconfirmed' }
  /** What was sent to us ended with another number of octets than was announced. */
  | { readonly kind: 'not-whole' }
  | { readonly kind: 'local-fault'; readonly message: string }
  | { readonly kind: 'stopped'; readonly why: string };

/** What a transfer in either direction is begun with. */
export interface TransferBegin {
  readonly localAddress: string;
  readonly peer: { readonly address: string; readonly port: number };
  readonly agreed: Agreed;
  /** The other end counts as gone after so many times the agreed timeout (5 s when none was agreed) without a word. */
  readonly tries: number;
  readonly onProgress?: ((progress: TransferProgress) => void) | undefined;
}

export interface TransferInput extends TransferBegin {
  /** Where the octets are: a file, or what stands in memory. */
  readonly source: string | Buffer;
  readonly fileBytes: number;
  /** The link that it shares with others; null: as fast as it goes. */
  readonly pacer?: Pacer | null;
  /** The port from which it was begun, where that was us. */
  readonly socket?: Socket;
  readonly onEnd: (end: TransferEnd, progress: TransferProgress) => void;
}

const readAhead = 64 * 1024;
/** Below RFC 6298's second, because a lost block costs this long each time; above the stalls of a busy machine. */
const shortestWait = 20;
const longestWait = 8000;
/** How often a packet is sent again quickly, each time after twice the wait. */
const quickTries = 5;
/** A device that erases flash in the middle of a transfer may be silent this long, times `tries`. */
const usualTimeout = 5000;

/** How long, and how often, the end of a file is sent again before it counts as arrived or not, as the receiver may know. */
const lastPatience = 4000;
const lastTries = 5;

/** Sends one file to one receiver from a port of its own (RFC 1350 §4: transfer identifiers). */
export class SendingTransfer {
  readonly #socket: Socket;
  readonly #input: TransferInput;
  readonly #blockSize: number;
  readonly #lastBlock: number;
  /** Packets of one window; made when the first block goes, so that a request alone holds next to nothing. */
  readonly #ring: Buffer[] = [];
  readonly #ringSize: number;
  readonly #trace = new PacketTrace();
  #file: number | null = null;
  #chunk: Buffer | null = null;
  #chunkAt = 0;
  #chunkBytes = 0;
  /** The last block that was acknowledged in order; -1 while the OACK is not. */
  #acknowledged: number;
  /** The last block that was sent. */
  #sent = 0;
  #tries = 0;
  #resent = 0;
  #timer: NodeJS.Timeout | null = null;
  #wait = 1000;
  readonly #longestWait: number;
  readonly #patience: number;
  /** How long the receiver's own timer probably is. */
  readonly #theirs: number;
  #heardAt = ownNow();
  #sentAt = 0;
  #resentSinceAck = false;
  #ended = false;
  /** RFC 6298 §2: the smoothed round trip and its variation, in milliseconds; null until one was measured. */
  #trip: number | null = null;
  #variation = 0;
  #acks = 0;
  #singleSteps = 0;
  #paceTimer: NodeJS.Timeout | null = null;
  #port: number | null = null;

  constructor(input: TransferInput) {
    this.#input = input;
    this.#blockSize = input.agreed.blockSize;
    // RFC 1350 §6: a block shorter than the block size ends the transfer, so a full last block is followed by an empty one.
    this.#lastBlock = Math.floor(input.fileBytes / this.#blockSize) + 1;
    this.#ringSize = Math.min(input.agreed.windowSize, this.#lastBlock);
    this.#acknowledged = input.agreed.acknowledge.size > 0 ? -1 : 0;
    this.#longestWait = Math.min(longestWait, (input.agreed.timeout ?? longestWait / 1000) * 1000);
    this.#theirs = input.agreed.timeout === null ? usualTimeout : input.agreed.timeout * 1000;
    this.#patience = input.tries * this.#theirs;
    this.#wait = Math.min(this.#wait, this.#longestWait);
    this.#socket = input.socket ?? ownSocket(input.localAddress);
  }

  start(): void {
    try {
      if (typeof this.#input.source === 'string') this.#file = openSync(this.#input.source, 'r');
      else {
        this.#chunk = this.#input.source;
        this.#chunkBytes = this.#chunk.length;
      }
    } catch (error) {
      this.#end({ kind: 'local-fault', message: (error as Error).message });
      return;
    }
    this.#socket.on('error', (error) => this.#end({ kind: 'local-fault', message: error.message }));
    this.#socket.on('message', (packet, from) => this.#receive(packet, from.address, from.port));
    const bound = (): void => {
      if (this.#ended) return;
      this.#port = this.#socket.address().port;
      // A connected socket would hide a third port's packets, which RFC 1350 §4 wants answered with error 5.
      if (this.#acknowledged < 0) this.#sendOack();
      else this.#fill();
      this.#arm();
    };
    if (this.#input.socket) bound();
    else this.#socket.bind({ port: 0, address: this.#input.localAddress }, bound);
  }

  /** Ends the transfer from our side, telling the receiver. */
  stop(message: string): void {
    this.#send(encodeError(errorCodes.undefined, message));
    this.#end({ kind: 'stopped', why: message });
  }

  get progress(): TransferProgress {
    const block = Math.max(0, this.#acknowledged);
    return {
      bytes: Math.min(block * this.#blockSize, this.#input.fileBytes),
      totalBytes: this.#input.fileBytes,
      acknowledgedBlock: block,
      resent: this.#resent,
      acks: this.#acks,
      singleSteps: this.#singleSteps,
      tries: this.#tries,
      silentMs: Math.round(ownNow() - this.#heardAt),
    };
  }

  /** Takes the request into the trace; it came in at the server's port. */
  heard(request: Buffer): void {
    this.#trace.note(false, request, request.length, performance.now());
  }

  /** Its first and last packets. */
  packets(): { readonly packets: TracedPacket[]; readonly missing: number; readonly port: number | null } {
    return this.#trace.told(this.#port);
  }

  #send(packet: Buffer, length = packet.length): void {
    if (this.#ended) return;
    this.#trace.note(true, packet, length, this.#sentAt);
    this.#socket.send(packet, 0, length, this.#input.peer.port, this.#input.peer.address);
  }

  #sendOack(): void {
    this.#sentAt = performance.now();
    this.#send(encodeOack(this.#input.agreed.acknowledge));
  }

  #receive(packet: Buffer, address: string, port: number): void {
    if (this.#ended) return;
    const { peer } = this.#input;
    if (address !== peer.address || port !== peer.port) {
      // RFC 1350 §4: a packet from elsewhere is answered with an error and does not disturb the transfer.
      this.#socket.send(encodeError(errorCodes.unknownTransferId, 'this port serves another transfer'), port, address);
      return;
    }
    if (packet.length < 4) return;
    const now = performance.now();
    this.#trace.note(false, packet, packet.length, now);
    const opcode = packet.readUInt16BE(0);
    if (opcode === opcodes.error) {
      this.#end({ kind: 'ended-by-peer', ...readError(packet) });
      return;
    }
    if (opcode !== opcodes.ack) return;
    const low = packet.readUInt16BE(2);
    if (this.#acknowledged < 0) {
      // RFC 2347 §3: the OACK is acknowledged with block number 0.
      if (low !== 0) return;
      this.#acknowledged = 0;
      this.#sent = 0;
      this.#acks++;
      this.#learn(now);
      this.#advanced(now);
      return;
    }
    // Block numbers are 16 bits and roll over to 0: the true block is the one within the window with these low bits.
    const ahead = (low - (this.#acknowledged & 0xffff)) & 0xffff;
    const block = this.#acknowledged + ahead;
    // RFC 1123 §4.2.3.1: an acknowledgement of an earlier block must not make us send again.
    if (ahead === 0 || block > this.#sent) return;
    this.#acknowledged = block;
    this.#acks++;
    if (ahead === 1 && block < this.#sent) this.#singleSteps++;
    this.#learn(now);
    // RFC 7440 §4: an acknowledgement of less than was sent means that the rest was lost; go on from there.
    if (block < this.#sent) {
      this.#resent += this.#sent - block;
      this.#sent = block;
    }
    this.#advanced(now);
  }

  #advanced(now: number): void {
    this.#heardAt = ownNow();
    // After a loss the timer runs slower than it must; it is set anew.
    if (this.#tries > 0) {
      this.#tries = 0;
      this.#arm();
    }
    this.#resentSinceAck = false;
    this.#input.onProgress?.(this.progress);
    if (this.#acknowledged >= this.#lastBlock) {
      this.#end({ kind: 'done' });
      return;
    }
    this.#fill(now);
    this.#timer?.refresh();
  }

  /**
   * RFC 6298 in spirit: wait some round trips, but never learn from a packet that was sent twice (Karn). RFC 2349's
   * timeout is taken as the longest wait, not as the only one: receivers ask for seconds by habit, and on a line that
   * loses packets every loss would cost them. A packet that comes early is at worst one that the receiver has already.
   */
  #learn(now: number): void {
    if (this.#resentSinceAck) return;
    const trip = now - this.#sentAt;
    if (this.#trip === null) {
      this.#trip = trip;
      this.#variation = trip / 2;
    } else {
      this.#variation += (Math.abs(this.#trip - trip) - this.#variation) / 4;
      this.#trip += (trip - this.#trip) / 8;
    }
    const wait = Math.min(this.#longestWait, Math.max(shortestWait, this.#trip + 4 * this.#variation));
    if (wait > this.#wait || wait < this.#wait / 2) {
      this.#wait = wait;
      if (this.#timer) this.#arm();
    }
  }

  #fill(now = performance.now()): void {
    const end = Math.min(this.#acknowledged + this.#input.agreed.windowSize, this.#lastBlock);
    const pacer = this.#input.pacer;
    this.#sentAt = now;
    while (this.#sent < end && !this.#ended) {
      if (pacer) {
        const wait = pacer.take(4 + this.#blockSize);
        if (wait > 0) {
          this.#paceTimer ??= setTimeout(() => {
            this.#paceTimer = null;
            this.#fill();
            this.#arm();
          }, wait);
          return;
        }
      }
      const block = this.#sent + 1;
      const packet = (this.#ring[block % this.#ringSize] ??= Buffer.allocUnsafe(4 + this.#blockSize));
      const length = this.#readBlock(block, packet);
      if (length < 0) return;
      packet.writeUInt16BE(opcodes.data, 0);
      packet.writeUInt16BE(block & 0xffff, 2);
      this.#sent = block;
      this.#send(packet, 4 + length);
    }
  }

  /** Copies a block behind the packet's header; reads ahead, because one asynchronous read costs more than a block. */
  #readBlock(block: number, packet: Buffer): number {
    const start = (block - 1) * this.#blockSize;
    const length = Math.min(this.#blockSize, this.#input.fileBytes - start);
    if (start < this.#chunkAt || start + length > this.#chunkAt + this.#chunkBytes) {
      this.#chunk ??= Buffer.allocUnsafe(Math.min(Math.max(readAhead, this.#blockSize), Math.max(1, this.#input.fileBytes)));
      try {
        this.#chunkBytes = readSync(this.#file!, this.#chunk, 0, this.#chunk.length, start);
        this.#chunkAt = start;
      } catch (error) {
        this.#send(encodeError(errorCodes.undefined, 'the file cannot be read'));
        this.#end({ kind: 'local-fault', message: (error as Error).message });
        return -1;
      }
      if (start + length > this.#chunkAt + this.#chunkBytes) {
        this.#send(encodeError(errorCodes.undefined, 'the file became shorter'));
        this.#end({
          kind: 'local-fault',
          message: `the file ended at ${start + this.#chunkBytes} octets, ${this.#input.fileBytes} were expected`,
        });
        return -1;
      }
    }
    this.#chunk?.copy(packet, 4, start - this.#chunkAt, start - this.#chunkAt + length);
    return length;
  }

  #arm(): void {
    if (this.#timer) clearTimeout(this.#timer);
    if (this.#ended) return;
    // Some receivers ignore what they have already, until a timer of their own runs out, which every packet of ours starts
    // anew. So after a few quick tries, or once these would be as far apart, they are left in peace for longer than such a
    // timer usually is.
    const quick = this.#wait * 2 ** this.#tries;
    const isQuick = this.#tries === 0 || (this.#tries <= quickTries && quick < this.#theirs);
    const wait = isQuick ? Math.min(this.#longestWait, quick) : this.#theirs * 1.2;
    this.#timer = setTimeout(() => this.#due(), wait);
  }

  /** Timers are due before sockets are read: what arrived while we were busy is heard before anybody is called late. */
  #due(): void {
    const heard = this.#acks;
    setImmediate(() => {
      if (!this.#ended && this.#acks === heard) this.#late();
    });
  }

  #late(): void {
    // The link is shared, and the rest of the window has not had its turn: the receiver has nothing to acknowledge yet.
    if (this.#paceTimer !== null) {
      this.#heardAt = ownNow();
      this.#arm();
      return;
    }
    this.#tries++;
    const silence = ownNow() - this.#heardAt;
    // RFC 1350 §6: the receiver may end when it has the last block, and its last acknowledgement may be lost.
    if (this.#sent === this.#lastBlock && this.#acks > 0 && this.#tries >= lastTries && silence >= Math.min(lastPatience, this.#patience)) {
      this.#end({ kind: 'unconfirmed' });
      return;
    }
    if (silence >= this.#patience) {
      // Who is there all the same, and hears us only now and then, need not go on for an hour.
      this.#send(encodeError(errorCodes.undefined, 'given up: nothing more was acknowledged'));
      this.#end({ kind: 'silent', tries: this.#tries });
      return;
    }
    this.#resentSinceAck = true;
    if (this.#acknowledged < 0) {
      this.#resent++;
      this.#sendOack();
    } else {
      this.#resent += this.#sent - this.#acknowledged;
      this.#sent = this.#acknowledged;
      this.#fill();
    }
    this.#arm();
  }

  #end(end: TransferEnd): void {
    if (this.#ended) return;
    this.#ended = true;
    if (this.#timer) clearTimeout(this.#timer);
    if (this.#paceTimer) clearTimeout(this.#paceTimer);
    if (this.#file !== null) closeSync(this.#file);
    try {
      this.#socket.close();
    } catch {
      // The socket never opened.
    }
    this.#input.onEnd(end, this.progress);
  }
}
