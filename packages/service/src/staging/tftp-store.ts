import { pattern, safeText } from '@barrow/core';
import { errorCodes, ThreadedTftp, WireError, type TransferEnd, type TransferProgress } from '@barrow/wire';
import type { Context } from '../context.js';
import { StartFailure } from '../errors.js';
import type { ImageStore } from '../images/store.js';
import { hostsOf } from './addresses.js';
import type { Offers } from './offers.js';
import type { Sites } from './sites.js';
import type { LiveTransfer, Transfers, TransferStart } from './transfers.js';

/** How long to wait before a store that was lost is opened again. */
const againAfter = 2000;

interface Tag {
  readonly start: TransferStart;
  one: LiveTransfer | null;
}

/** Barrow's TFTP store: the offers behind the server, which runs in a thread of its own. */
export class TftpStore {
  readonly #server: ThreadedTftp<Tag>;
  readonly hosts: readonly string[];
  #port: number;
  #listening = false;
  #fault: string | null = null;
  #again: NodeJS.Timeout | null = null;
  #stopped = false;

  constructor(
    private readonly context: Context,
    offers: Offers,
    sites: Sites,
    private readonly transfers: Transfers,
    images: ImageStore,
  ) {
    this.hosts = hostsOf(context.options.tftpListen);
    this.#port = context.options.tftpListen.port;
    this.#server = new ThreadedTftp<Tag>({
      hosts: this.hosts,
      port: this.#port,
      answer: (request, peer) => {
        const offered = offers.find(peer.address, request.filename);
        const start = {
          device: null,
          site: null,
          protocol: 'tftp' as const,
          peer: `${peer.address}:${peer.port}`,
          file: request.filename,
          image: null,
          totalBytes: 0,
          askedOptions: optionsOf(request.options),
        };
        if (!offered) {
          const { known, why } = offers.whyNot(peer.address, request.filename);
          const device = offers.deviceAt(peer.address);
          // A file that devices of this family ask for by habit is no fault, and no line in the record.
          const habit = device !== null && offers.isHabit(device, request.filename, (source, name) => pattern(source).matcher(name).find());
          if (!habit) transfers.refused({ ...start, device, site: device?.site ?? null }, why);
          // RFC 1350: a device to which nothing is offered is not told whether the file exists.
          return {
            kind: 'refuse',
            code: known ? errorCodes.fileNotFound : errorCodes.accessViolation,
            message: why,
          };
        }
        const { device, image, file } = offered;
        return {
          kind: 'send',
          path: images.pathOf(file.sha256),
          bytes: file.bytes,
          link: sites.linkOf(device.site),
          tag: { start: { ...start, device, site: device.site, image: image.sha256, totalBytes: file.bytes }, one: null },
        };
      },
      onBegin: (tag, id, agreed) => {
        const one = transfers.begin(tag.start);
        one.row.blockSize = agreed.blockSize;
        one.row.windowSize = agreed.windowSize;
        one.packets = () => this.#server.packets(id);
        one.stop = (why) => this.#server.end(id, why);
        tag.one = one;
      },
      onProgress: (tag, progress) => tag.one && this.#progress(tag.one, progress),
      onEnd: (tag, end, progress, packets) => {
        if (!tag.one) return;
        if (end.kind === 'refused-by-receiver') tag.one.facts.receiverError = { code: end.code, message: safeText(end.message, 200) };
        this.#progress(tag.one, progress);
        transfers.end(tag.one, end.kind === 'done' || end.kind === 'unconfirmed' ? 'done' : 'broken', endText(end, progress), packets);
      },
      onRefused: (peer, request, why, _at, untold) => {
        if (untold > 0) context.log.warn({ untold }, 'more requests were refused than are told one by one');
        // What was not offered was written down when it was decided; here come those that are no proper request.
        if (why.startsWith('not staged') || why.startsWith('nothing is staged')) return;
        const peerText = `${peer.address}:${peer.port}`;
        const device = offers.deviceAt(peer.address);
        transfers.refused(
          {
            device,
            site: device?.site ?? null,
            protocol: 'tftp',
            peer: peerText,
            file: request?.filename ?? '',
            image: null,
            totalBytes: 0,
            askedOptions: optionsOf(request?.options ?? new Map()),
          },
          why,
        );
      },
      onLost: (why) => this.#lost(why),
    });
  }

  get port(): number {
    return this.#port;
  }

  get state(): { readonly listening: boolean; readonly fault: string | null } {
    return { listening: this.#listening, fault: this.#fault };
  }

  #progress(one: LiveTransfer, p: TransferProgress): void {
    const { acks, singleSteps, tries, silentMs } = p;
    this.transfers.progress(one, p.bytes, { block: p.acknowledgedBlock, resent: p.resent, facts: { acks, singleSteps, tries, silentMs } });
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
    for (const one of this.transfers.since(0, (r) => r.protocol === 'tftp' && r.state === 'moving'))
      this.transfers.end(one, 'broken', `the store was lost: ${why}`);
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
    case 'refused-by-receiver':
      return `the receiver ended it with error ${end.code}: ${safeText(end.message, 200)}`;
    case 'silent':
      return `no acknowledgement after block ${progress.acknowledgedBlock}, sent ${end.tries} times`;
    case 'unconfirmed':
      return 'every block was sent, but its last acknowledgement never came';
    case 'local-fault':
      return `the store failed: ${end.message}`;
    case 'stopped':
      return `ended by Barrow: ${end.why}`;
  }
}
