import { cause, describePacket, safeText, type KeptPacket, type Transfer, type TransferStory } from '@barrow/core';
import type { Packets } from '@barrow/wire';
import { rfc3339, rfc3339OrNull, type Context } from '../context.js';
import { TransferEntity, type TransferRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound } from '../errors.js';
import { steadyNow, whileMeasured } from '../steady.js';

/** How often a moving transfer is told live. */
const tellEvery = 200;
const mostRates = 60;
const recentKept = 500;
/** The newest that ended keep their packets in memory until they are surely written down. */
const packetsKept = 20;
/** What a list does not show; it would be read for nothing. */
const onlyInStories = ['packets', 'findings'] as const;
/** The most refused requests that are written down in a second; a flood is counted in the log instead. */
const mostRefusalsPerSecond = 20;

/** What the ladder needs to know of a transfer besides its row. */
export interface MoveFacts {
  acks: number;
  singleSteps: number;
  tries: number;
  silentMs: number;
  receiverError: { readonly code: number; readonly message: string } | null;
  /** The device closed the connection before all of it was sent. */
  closed: boolean;
}

/** A transfer in memory. */
export interface LiveTransfer {
  readonly row: TransferRow;
  readonly facts: MoveFacts;
  /** Its packets while it moves. */
  packets: (() => Promise<Packets | null>) | null;
  /** Ends it from our side. */
  stop: ((why: string) => void) | null;
  /** When its rate was sampled last, and how many octets it had then. */
  sampledAt: number;
  sampledBytes: number;
  toldAt: number;
}

export interface TransferStart {
  readonly device: { readonly id: string; readonly name: string } | null;
  readonly site: string | null;
  readonly protocol: Transfer['protocol'];
  readonly peer: string;
  readonly file: string;
  readonly image: string | null;
  readonly totalBytes: number;
  readonly askedOptions: Readonly<Record<string, string>>;
}

/** Strangers and names that are told apart; the oldest is forgotten first. */
const mostStrangers = 500;

/** Every transfer: those awaited, moving, and lately ended, whatever way they go; and the record of all. */
export class Transfers {
  /** Awaited and moving, by id. */
  readonly #live = new Map<string, LiveTransfer>();
  /** The newest, oldest first, those that ended among them. */
  readonly #recent: LiveTransfer[] = [];
  #refusals = { second: 0, count: 0 };
  /** What strangers asked for lately, and how often. */
  readonly #strangers = new Map<string, { readonly one: LiveTransfer; times: number }>();

  constructor(private readonly context: Context) {
    whileMeasured(() => this.#live.size > 0);
  }

  /** What a stopped service left as moving did not come to its end. */
  async load(): Promise<void> {
    await this.context.db.write(async (em) =>
      em.nativeUpdate(
        TransferEntity,
        { state: { $in: ['moving', 'awaited'] } },
        { state: 'broken', endedAt: steadyNow(), detail: 'the service was stopped meanwhile' },
      ),
    );
  }

  /** Octets in a second that move for a site now, as of lately. */
  rateAt(site: string): number {
    let sum = 0;
    for (const { row } of this.#live.values()) if (row.site === site && row.state === 'moving') sum += lately(row);
    return sum;
  }

  /** A device was told to fetch: from now on it is waited for. */
  expect(start: TransferStart): LiveTransfer {
    const one = this.#make(start, 'awaited');
    this.#live.set(one.row.id, one);
    this.#recent.push(one);
    this.tell(one, true);
    return one;
  }

  /** Octets begin to move; an awaited transfer of the same device becomes this one. */
  begin(start: TransferStart): LiveTransfer {
    const awaited = [...this.#live.values()].find(
      (t) =>
        t.row.state === 'awaited' &&
        start.device !== null &&
        t.row.device === start.device.id &&
        (t.row.protocol === 'tftp-write') === (start.protocol === 'tftp-write'),
    );
    const one = awaited ?? this.#make(start, 'moving');
    Object.assign(one.row, {
      state: 'moving',
      askedAt: steadyNow(),
      peer: start.peer,
      file: safeText(start.file, 200),
      askedOptions: { ...start.askedOptions },
      protocol: start.protocol,
      image: start.image,
      totalBytes: start.totalBytes,
    });
    one.sampledAt = one.row.askedAt;
    this.#live.set(one.row.id, one);
    if (!awaited) this.#recent.push(one);
    this.#keep(one);
    this.context.log.info({ transfer: one.row.id, device: one.row.deviceName, file: one.row.file }, 'transfer begun');
    this.tell(one, true);
    return one;
  }

  progress(one: LiveTransfer, bytes: number, more: { block?: number; resent?: number; facts?: Partial<MoveFacts> } = {}): void {
    const { row } = one;
    row.bytes = bytes;
    // Who sends need not say how much it is.
    if (row.protocol === 'tftp-write' && row.totalBytes < bytes) row.totalBytes = bytes;
    if (more.block !== undefined) row.block = more.block;
    if (more.resent !== undefined) row.resent = more.resent;
    if (more.facts) Object.assign(one.facts, more.facts);
    this.#sample(one);
    this.tell(one, false);
  }

  end(one: LiveTransfer, state: 'done' | 'broken', detail: string, packets: Packets | null = null): void {
    const { row } = one;
    if (!this.#live.delete(row.id)) return;
    const wasAwaited = row.state === 'awaited';
    row.state = state;
    row.endedAt = steadyNow();
    row.detail = safeText(detail, 400);
    row.packets = packets && keptOf(packets);
    // A transfer shorter than a stretch has its own mean as its rate.
    row.rate = Math.round((row.bytes * 1000) / Math.max(1, row.endedAt - row.askedAt));
    if (row.rates.length === 0) row.rates = [row.rate];
    one.packets = null;
    one.stop = null;
    if (wasAwaited) this.#keep(one);
    else this.save(one);
    const older = this.#recent[this.#recent.length - packetsKept];
    if (older?.row.endedAt != null) older.row.packets = null;
    this.context.log.info({ transfer: row.id, device: row.deviceName, state, detail: row.detail, cause: row.cause }, 'transfer ended');
    this.tell(one, true);
  }

  /** Writes down what a transfer has become. */
  save(one: LiveTransfer): void {
    void this.context.db
      .writeSurely(async (em) => {
        // What it is when there is room, and not what it was: these may come to their turn in another order.
        const { id, ...rest } = one.row;
        return em.nativeUpdate(TransferEntity, { id }, rest);
      })
      .catch((error: unknown) => this.context.log.error({ error }, 'transfer not recorded'));
  }

  /** A request that got nothing. */
  refused(start: TransferStart, why: string): void {
    const second = Math.floor(steadyNow() / 1000);
    if (this.#refusals.second !== second) this.#refusals = { second, count: 0 };
    if (++this.#refusals.count > mostRefusalsPerSecond) return;
    // What strangers ask for is counted, not kept request by request.
    const stranger = start.device === null ? `${start.peer.replace(/:\d+$/, '')} ${start.file}`.slice(0, 300) : null;
    const before = stranger === null ? undefined : this.#strangers.get(stranger);
    if (before) {
      before.times++;
      before.one.row.endedAt = steadyNow();
      before.one.row.detail = safeText(`${why} (asked ${before.times} times)`, 300);
      // Written at the first, tenth, hundredth…: a flood writes as good as nothing.
      if (Number.isInteger(Math.log10(before.times))) this.save(before.one);
      return;
    }
    const one = this.#make(start, 'refused');
    if (stranger !== null) {
      if (this.#strangers.size >= mostStrangers) this.#strangers.delete(this.#strangers.keys().next().value!);
      this.#strangers.set(stranger, { one, times: 1 });
    }
    one.row.endedAt = one.row.askedAt;
    one.row.detail = safeText(why, 300);
    this.context.log.warn({ peer: one.row.peer, file: one.row.file, why: one.row.detail }, 'request refused');
    this.#recent.push(one);
    this.#keep(one);
    this.tell(one, true);
  }

  /** Those that ended lately, move or are awaited, since a moment, oldest first. */
  since(at: number, which: (row: TransferRow) => boolean): LiveTransfer[] {
    return this.#recent.filter((t) => t.row.askedAt >= at && which(t.row));
  }

  liveOf(id: string): LiveTransfer | null {
    return this.#live.get(id) ?? null;
  }

  /** The last transfer of an image to a device that this process saw. */
  lastOf(device: string, image: string): LiveTransfer | null {
    for (let i = this.#recent.length - 1; i >= 0; i--) {
      const { row } = this.#recent[i]!;
      if (row.device === device && row.image === image && row.state !== 'refused') return this.#recent[i]!;
    }
    return null;
  }

  async list(limit: number, filter: { state?: string | undefined; device?: string | undefined } = {}): Promise<Transfer[]> {
    const where = { ...(filter.state ? { state: filter.state } : {}), ...(filter.device ? { device: filter.device } : {}) };
    const rows = await this.context.db.find(TransferEntity, where, { orderBy: { askedAt: 'desc' }, limit, exclude: onlyInStories });
    const awaited = [...this.#live.values()].filter(
      (t) =>
        t.row.state === 'awaited' && (!filter.state || filter.state === 'awaited') && (!filter.device || t.row.device === filter.device),
    );
    const moving = (row: TransferRow): TransferRow => this.#live.get(row.id)?.row ?? row;
    return [...awaited.map((t) => t.row).reverse(), ...rows.map(moving)].slice(0, limit).map(transferView);
  }

  /** @throws Refusal */
  async row(id: string): Promise<TransferRow> {
    const row =
      this.#live.get(id)?.row ?? this.#recent.find((t) => t.row.id === id)?.row ?? (await this.context.db.findOne(TransferEntity, { id }));
    if (!row) throw notFound('transfer', id, '`barrow transfer list` shows what moved.');
    return row;
  }

  /** Its first and last packets, also while it moves. @throws Refusal */
  async packetsOf(id: string): Promise<{ row: TransferRow; packets: KeptPacket[]; missing: number; port?: number | null }> {
    const known = await this.row(id);
    // In memory an ended one has its packets for a while only.
    const row =
      known.endedAt !== null && known.packets === null ? ((await this.context.db.findOne(TransferEntity, { id })) ?? known) : known;
    const live = await this.#live.get(id)?.packets?.();
    const found = live ? keptOf(live) : (row.packets ?? { packets: [], missing: 0 });
    return { row, ...found };
  }

  /** @throws Refusal */
  async story(id: string): Promise<TransferStory> {
    const { row, packets, missing } = await this.packetsOf(id);
    const [address] = row.peer.split(/:\d+$/);
    const around = await this.context.db.find(
      TransferEntity,
      {
        id: { $ne: row.id },
        askedAt: { $gte: row.askedAt - 10 * 60_000, $lte: (row.endedAt ?? steadyNow()) + 10 * 60_000 },
        $or: [
          ...(row.device ? [{ device: row.device }] : []),
          ...(address ? [{ peer: { $like: `${address}:%` } }] : []),
          // Strangers who asked for the same file may have been it.
          { file: row.file, state: 'refused' },
        ],
      },
      { orderBy: { askedAt: 'asc' }, limit: 20, exclude: onlyInStories },
    );
    const begin = packets[0]?.at ?? 0;
    return {
      ...transferView(row),
      findings: row.findings.map((f) => ({ cause: causeView(f.cause), evidence: [...f.evidence] })),
      packets: packets.map((p) => ({
        afterMs: Math.round((p.at - begin) * 1000) / 1000,
        from: p.out ? ('barrow' as const) : ('device' as const),
        octets: p.length,
        says: safeText(describePacket(p), 300),
      })),
      packetsLeftOut: missing,
      around: around.map(transferView),
    };
  }

  #make(start: TransferStart, state: Transfer['state']): LiveTransfer {
    const now = steadyNow();
    const row: TransferRow = {
      id: newId('t'),
      device: start.device?.id ?? null,
      deviceName: start.device?.name ?? null,
      site: start.site,
      protocol: start.protocol,
      peer: start.peer,
      file: safeText(start.file, 200),
      image: start.image,
      state,
      askedAt: now,
      endedAt: null,
      askedOptions: { ...start.askedOptions },
      blockSize: null,
      windowSize: null,
      bytes: 0,
      totalBytes: start.totalBytes,
      rate: 0,
      rates: [],
      block: 0,
      resent: 0,
      verified: null,
      comparedBy: null,
      detail: null,
      cause: null,
      evidence: [],
      findings: [],
      packets: null,
    };
    return {
      row,
      facts: { acks: 0, singleSteps: 0, tries: 0, silentMs: 0, receiverError: null, closed: false },
      packets: null,
      stop: null,
      sampledAt: now,
      sampledBytes: 0,
      toldAt: 0,
    };
  }

  /** A rate for each stretch of its time; when there are too many, stretches become twice as long. */
  #sample(one: LiveTransfer): void {
    const now = steadyNow();
    const { row } = one;
    const stretch = Math.max(tellEvery, (now - row.askedAt) / mostRates);
    const since = now - one.sampledAt;
    if (since < stretch) return;
    row.rate = Math.round(((row.bytes - one.sampledBytes) * 1000) / since);
    row.rates.push(Math.max(0, row.rate));
    if (row.rates.length > mostRates) row.rates = row.rates.filter((_, i) => i % 2 === 1);
    one.sampledAt = now;
    one.sampledBytes = row.bytes;
  }

  #keep(one: LiveTransfer): void {
    if (this.#recent.length > recentKept) this.#recent.splice(0, recentKept / 5);
    void this.context.db
      .writeSurely(async (em) => em.upsert(TransferEntity, { ...one.row }))
      .catch((error: unknown) => this.context.log.error({ error }, 'transfer not recorded'));
  }

  tell(one: LiveTransfer, always: boolean): void {
    const now = steadyNow();
    if (!always && now - one.toldAt < tellEvery) return;
    one.toldAt = now;
    this.context.live.tell({ kind: 'transfer', transfer: transferView(one.row) });
  }
}

const keptOf = ({ packets, missing, port }: Packets): NonNullable<TransferRow['packets']> => ({
  packets: packets.map(kept),
  missing,
  port,
});
const kept = (p: Packets['packets'][number]): KeptPacket => ({
  at: p.at,
  out: p.out,
  length: p.length,
  head: Buffer.from(p.head).toString('hex'),
});

export function causeView(code: string): { code: string; what: string; next: string } {
  const { what, next, code: known } = cause(code);
  return { code: known, what, next };
}

/** The mean of its last rates. */
function lately({ rates }: Pick<TransferRow, 'rates'>): number {
  const last = rates.slice(-5);
  return last.length > 0 ? last.reduce((sum, r) => sum + r, 0) / last.length : 0;
}

export function transferView(row: TransferRow): Transfer {
  const rate = lately(row);
  // What only its story tells is not carried along with every list and every event.
  const told: Omit<TransferRow, 'packets' | 'findings'> & Partial<Pick<TransferRow, 'packets' | 'findings'>> = { ...row };
  delete told.packets;
  delete told.findings;
  return {
    ...told,
    state: row.state as Transfer['state'],
    askedAt: rfc3339(row.askedAt),
    endedAt: rfc3339OrNull(row.endedAt),
    // What stands still has no end in sight.
    secondsLeft: row.state === 'moving' && row.rate > 0 && rate > 0 ? Math.ceil((row.totalBytes - row.bytes) / rate) : null,
    cause: row.cause === null ? null : causeView(row.cause),
  };
}
