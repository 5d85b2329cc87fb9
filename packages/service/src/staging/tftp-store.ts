import { safeText, type Transfer } from '@barrow/core';
import {
  errorCodes,
  TftpServer,
  WireError,
  type Agreed,
  type ReadRequest,
  type TftpPeer,
  type TransferEnd,
  type TransferProgress,
} from '@barrow/wire';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import { TransferEntity, type TransferRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { StartFailure } from '../errors.js';
import type { ImageStore } from '../images/store.js';
import type { Offers } from './offers.js';

/** How often a moving transfer is told live. */
const tellEvery = 200;
/** The most refused requests that are written down in a second; a flood is counted in the log instead. */
const mostRefusalsPerSecond = 20;
const recentKept = 500;

/** Barrow's TFTP store: the offers behind the server, and a record of every transfer and refusal. */
export class TftpStore {
  readonly #server: TftpServer<TransferRow>;
  readonly #moving = new Map<string, TransferRow>();
  readonly #told = new Map<string, number>();
  /** The newest transfers, also those that moved before anybody watched. */
  readonly #recent: TransferRow[] = [];
  #port = 0;
  #refusals = { second: 0, count: 0 };

  constructor(
    private readonly context: Context,
    private readonly offers: Offers,
    images: ImageStore,
  ) {
    const { host, port } = context.options.tftpListen;
    this.#server = new TftpServer<TransferRow>({
      host,
      port,
      answer: (request, peer) => {
        const entry = this.offers.find(peer.address, request.filename);
        if (!entry) {
          const names = this.offers.namesFor(peer.address);
          return {
            kind: 'refuse',
            // RFC 1350: a device to which nothing is offered is not told whether the file exists.
            code: names.length === 0 ? errorCodes.accessViolation : errorCodes.fileNotFound,
            message: names.length === 0 ? 'nothing is staged for this address' : `not staged under this name; staged: ${names.join(', ')}`,
          };
        }
        const row = this.#row(peer, request, { id: entry.device.id, name: entry.device.name });
        return {
          kind: 'send',
          path: images.pathOf(entry.image.sha256),
          bytes: entry.image.bytes,
          tag: { ...row, image: entry.image.sha256, totalBytes: entry.image.bytes },
        };
      },
      onBegin: (row, _peer, _request, agreed) => this.#begin(row, agreed),
      onProgress: (row, progress) => this.#progress(row, progress),
      onEnd: (row, end, progress) => this.#end(row, end, progress),
      onRefused: (peer, request, why) => this.#refused(peer, request, why),
    });
  }

  get port(): number {
    return this.#port;
  }

  get activeTransfers(): number {
    return this.#server.active;
  }

  async start(): Promise<void> {
    try {
      this.#port = (await this.#server.start()).port;
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      const { host, port } = this.context.options.tftpListen;
      throw new StartFailure(
        'port-in-use',
        'The TFTP store cannot listen',
        error.detail,
        port < 1024
          ? 'Ports below 1024 need the right to bind them (see "On a real network" in the README), or another program has it.'
          : `Another program listens on ${host}:${port}. Stop it, or choose another with --tftp-listen.`,
      );
    }
  }

  stop(): Promise<void> {
    return this.#server.stop();
  }

  /** Transfers and refusals of an address since a moment, newest last. */
  since(address: string, at: number): TransferRow[] {
    return this.#recent.filter((t) => t.askedAt >= at && t.peer.startsWith(`${address}:`));
  }

  async list(limit: number): Promise<Transfer[]> {
    const rows = await this.context.db.find(TransferEntity, {}, { orderBy: { askedAt: 'desc' }, limit });
    return rows.map((row) => transferView(this.#moving.get(row.id) ?? row));
  }

  #row(peer: TftpPeer, request: ReadRequest | null, device: { id: string; name: string } | null): TransferRow {
    return {
      id: newId('t'),
      device: device?.id ?? null,
      deviceName: device?.name ?? null,
      peer: `${peer.address}:${peer.port}`,
      file: safeText(request?.filename ?? '', 200),
      image: null,
      state: 'moving',
      askedAt: Date.now(),
      endedAt: null,
      askedOptions: Object.fromEntries([...(request?.options ?? [])].slice(0, 20).map(([k, v]) => [safeText(k, 40), safeText(v, 40)])),
      blockSize: null,
      windowSize: null,
      bytes: 0,
      totalBytes: 0,
      rate: 0,
      block: 0,
      resent: 0,
      detail: null,
    };
  }

  #keep(row: TransferRow): void {
    this.#recent.push(row);
    if (this.#recent.length > recentKept) this.#recent.splice(0, recentKept / 5);
    void this.context.db
      .write(async (em) => em.insert(TransferEntity, row))
      .catch((error: unknown) => this.context.log.error({ error }, 'transfer not recorded'));
  }

  #begin(row: TransferRow, agreed: Agreed): void {
    row.blockSize = agreed.blockSize;
    row.windowSize = agreed.windowSize;
    this.#moving.set(row.id, row);
    this.#keep({ ...row });
    this.#recent[this.#recent.length - 1] = row;
    this.context.log.info({ transfer: row.id, device: row.deviceName, file: row.file, blockSize: row.blockSize }, 'transfer begun');
    this.#tell(row, true);
  }

  #take(row: TransferRow, progress: TransferProgress): void {
    row.bytes = progress.bytes;
    row.block = progress.acknowledgedBlock;
    row.resent = progress.resent;
    row.rate = Math.round((progress.bytes * 1000) / Math.max(1, Date.now() - row.askedAt));
  }

  #progress(row: TransferRow, progress: TransferProgress): void {
    if (Date.now() - (this.#told.get(row.id) ?? 0) < tellEvery) return;
    this.#take(row, progress);
    this.#tell(row, false);
  }

  #end(row: TransferRow, end: TransferEnd, progress: TransferProgress): void {
    this.#take(row, progress);
    row.state = end.kind === 'done' ? 'done' : 'broken';
    row.endedAt = Date.now();
    row.detail = endText(end, progress);
    this.#moving.delete(row.id);
    this.#told.delete(row.id);
    const { state, endedAt, detail, bytes, block, resent, rate } = row;
    void this.context.db
      .write(async (em) => em.nativeUpdate(TransferEntity, { id: row.id }, { state, endedAt, detail, bytes, block, resent, rate }))
      .catch((error: unknown) => this.context.log.error({ error }, 'transfer not recorded'));
    this.context.log.info({ transfer: row.id, device: row.deviceName, state: row.state, detail: row.detail }, 'transfer ended');
    this.#tell(row, true);
  }

  #refused(peer: TftpPeer, request: ReadRequest | null, why: string): void {
    const second = Math.floor(Date.now() / 1000);
    if (this.#refusals.second !== second) this.#refusals = { second, count: 0 };
    if (++this.#refusals.count > mostRefusalsPerSecond) return;
    const row = this.#row(peer, request, null);
    row.state = 'refused';
    row.endedAt = row.askedAt;
    row.detail = safeText(why, 300);
    this.context.log.warn({ peer: row.peer, file: row.file, why: row.detail }, 'request refused');
    this.#keep(row);
    this.#tell(row, true);
  }

  #tell(row: TransferRow, always: boolean): void {
    const now = Date.now();
    if (!always && now - (this.#told.get(row.id) ?? 0) < tellEvery) return;
    if (row.endedAt === null) this.#told.set(row.id, now);
    this.context.live.tell({ kind: 'transfer', transfer: transferView(row) });
  }
}

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
      return 'the store was closed';
  }
}

export function transferView(row: TransferRow): Transfer {
  return { ...row, state: row.state as Transfer['state'], askedAt: rfc3339(row.askedAt), endedAt: rfc3339OrNull(row.endedAt) };
}
