import { safeText } from '@barrow/core';
import {
  errorCodes,
  ThreadedTftp,
  WireError,
  type TftpAnswer,
  type TftpPeer,
  type TftpRequest,
  type TransferEnd,
  type TransferProgress,
} from '@barrow/wire';
import type { Context } from '../context.js';
import { StartFailure } from '../errors.js';
import type { ImageStore } from '../images/store.js';
import { hostsOf } from './addresses.js';
import type { CheckFile } from './check-file.js';
import type { Awaited, Incoming } from './incoming.js';
import type { Offers } from './offers.js';
import { startOf, startOfOffered, turnAway } from './requests.js';
import type { Sites } from './sites.js';
import type { LiveTransfer, Transfers, TransferStart } from './transfers.js';

/** How long to wait before a store that was lost is opened again. */
const againAfter = 2000;

/** What is known of a request; none of our own, to see whether the store works. */
interface Tag {
  readonly start: TransferStart;
  one: LiveTransfer | null;
  /** What is awaited under that name. */
  readonly taken: Awaited | null;
}

/** How refusals begin that were written down when they were decided. */
const decided = ['not staged', 'nothing is staged', 'not awaited', 'nothing is awaited'];

/** Barrow's TFTP store: the offers behind the server, which runs in a thread of its own. */
export class TftpStore {
  readonly #server: ThreadedTftp<Tag | null>;
  readonly hosts: readonly string[];
  #port: number;
  #listening = false;
  #fault: string | null = null;
  #again: NodeJS.Timeout | null = null;
  #stopped = false;

  constructor(
    private readonly context: Context,
    private readonly parts: {
      readonly offers: Offers;
      readonly sites: Sites;
      readonly transfers: Transfers;
      readonly images: ImageStore;
      readonly incoming: () => Incoming;
      readonly check: CheckFile;
    },
  ) {
    const { transfers } = parts;
    this.hosts = hostsOf(context.options.tftpListen);
    this.#port = context.options.tftpListen.port;
    this.#server = new ThreadedTftp<Tag | null>({
      hosts: this.hosts,
      port: this.#port,
      answer: (request, peer) => (request.kind === 'wrq' ? this.#take(request, peer) : this.#give(request, peer)),
      onBegin: (tag, id, agreed) => {
        if (!tag) return;
        const one = transfers.begin(tag.start);
        one.row.blockSize = agreed.blockSize;
        one.row.windowSize = agreed.windowSize;
        one.packets = () => this.#server.packets(id);
        one.stop = (why) => this.#server.end(id, why);
        tag.one = one;
      },
      onProgress: (tag, progress) => tag?.one && this.#progress(tag.one, progress),
      onEnd: (tag, end, progress, packets, content) => {
        if (!tag?.one) return;
        if (end.kind === 'ended-by-peer') tag.one.facts.receiverError = { code: end.code, message: safeText(end.message, 200) };
        this.#progress(tag.one, progress);
        transfers.end(tag.one, end.kind === 'done' || end.kind === 'unconfirmed' ? 'done' : 'broken', endText(end, progress), packets);
        if (content && tag.taken) tag.taken.arrived(Buffer.from(content));
      },
      onRefused: (peer, request, why, _at, untold) => {
        if (untold > 0) context.log.warn({ untold }, 'more requests were refused than are told one by one');
        // What was not offered was written down when it was decided; here come those that are no proper request.
        if (decided.some((d) => why.startsWith(d))) return;
        const device = parts.offers.deviceAt(peer.address) ?? parts.incoming().deviceAt(peer.address);
        const protocol = request?.kind === 'wrq' ? 'tftp-write' : 'tftp';
        transfers.refused(startOf(protocol, peer, request?.filename ?? '', optionsOf(request?.options ?? new Map()), device), why);
      },
      onLost: (why) => this.#lost(why),
    });
  }

  /** A file that is offered to this very address, or nothing. */
  #give(request: TftpRequest, peer: TftpPeer): TftpAnswer<Tag | null> {
    const { offers, sites, transfers, images, check } = this.parts;
    if (check.is(peer.address, request.filename)) return { kind: 'send', path: check.path, bytes: check.content.length, tag: null };
    const laid = offers.textFor(peer.address, request.filename);
    if (laid) return { kind: 'send', path: laid.path, bytes: laid.bytes, tag: null };
    const offered = offers.find(peer.address, request.filename);
    const device = offered?.device ?? offers.deviceAt(peer.address);
    const start = startOf('tftp', peer, request.filename, optionsOf(request.options), device);
    if (!offered) {
      const { known, why } = turnAway(offers, transfers, start, peer);
      // RFC 1350: a device to which nothing is offered is not told whether the file exists.
      return { kind: 'refuse', code: known ? errorCodes.fileNotFound : errorCodes.accessViolation, message: why };
    }
    return {
      kind: 'send',
      path: images.pathOf(offered.file.sha256),
      bytes: offered.file.bytes,
      link: sites.linkOf(offered.device.site),
      tag: { start: startOfOffered(start, offered), one: null, taken: null },
    };
  }

  /** A file that is awaited from this very address, or nothing. */
  #take(request: TftpRequest, peer: TftpPeer): TftpAnswer<Tag | null> {
    const { transfers } = this.parts;
    const incoming = this.parts.incoming();
    const taken = incoming.find(peer.address, request.filename);
    const device = taken?.device ?? incoming.deviceAt(peer.address);
    const start = startOf('tftp-write', peer, request.filename, optionsOf(request.options), device);
    if (!taken) {
      const why = incoming.whyNot(peer.address, request.filename);
      transfers.refused(start, why);
      return { kind: 'refuse', code: errorCodes.accessViolation, message: why };
    }
    return { kind: 'take', mostBytes: taken.mostBytes, tag: { start, one: null, taken } };
  }

  get port(): number {
    return this.#port;
  }

  get state(): { readonly listening: boolean; readonly fault: string | null } {
    return { listening: this.#listening, fault: this.#fault };
  }

  #progress(one: LiveTransfer, p: TransferProgress): void {
    const { acks, singleSteps, tries, silentMs } = p;
    this.parts.transfers.progress(one, p.bytes, {
      block: p.acknowledgedBlock,
      resent: p.resent,
      facts: { acks, singleSteps, tries, silentMs },
    });
  }

  async start(): Promise<void> {
    try {
      this.#port = (await this.#server.start()).port;
      this.#listening = true;
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      const { host, port } = this.context.options.tftpListen;
      throw new StartFailure(
        'port-in-use',
        'The TFTP store cannot listen',
        error.detail,
        port < 1024
          ? 'Ports below 1024 need the right to bind them (see docs/staging.md), or another program has it.'
          : `Another program listens on ${host}:${port}. Stop it, or choose another with --tftp-listen.`,
      );
    }
  }

  /** Its thread is gone: what moved is broken, and the store is opened again. */
  #lost(why: string): void {
    this.#listening = false;
    this.#fault = why;
    this.context.log.error({ why }, 'the TFTP store was lost');
    for (const one of this.parts.transfers.since(0, (r) => r.protocol.startsWith('tftp') && r.state === 'moving'))
      this.parts.transfers.end(one, 'broken', `the store was lost: ${why}`);
    const again = (): void => {
      if (this.#stopped) return;
      this.start().then(
        () => (this.#fault = null),
        (error: unknown) => {
          this.#fault = (error as Error).message;
          this.#again = setTimeout(again, againAfter);
        },
      );
    };
    this.#again = setTimeout(again, againAfter);
  }

  async stop(): Promise<void> {
    this.#stopped = true;
    this.#listening = false;
    if (this.#again) clearTimeout(this.#again);
    await this.#server.stop();
  }
}

const optionsOf = (options: ReadonlyMap<string, string>): Record<string, string> =>
  Object.fromEntries([...options].slice(0, 20).map(([k, v]) => [safeText(k, 40), safeText(v, 40)]));

function endText(end: TransferEnd, progress: TransferProgress): string {
  switch (end.kind) {
    case 'done':
      return progress.resent === 0 ? 'whole, nothing sent twice' : `whole, ${progress.resent} blocks sent again`;
    case 'ended-by-peer':
      return `the device ended it with error ${end.code}: ${safeText(end.message, 200)}`;
    case 'silent':
      return `nothing was heard after block ${progress.acknowledgedBlock}, sent ${end.tries} times`;
    case 'unconfirmed':
      return 'every block was sent, but its last acknowledgement never came';
    case 'not-whole':
      return `${progress.bytes} octets came, and ${progress.totalBytes} were announced: not taken`;
    case 'local-fault':
      return `the store failed: ${end.message}`;
    case 'stopped':
      return `ended by Barrow: ${end.why}`;
  }
}
