import {
  CauseError,
  explainTransfer,
  usualPatience,
  type ComparedBy,
  type Evidence,
  type StoreProtocol,
  type TransferFinding,
} from '@barrow/core';
import type { Context } from '../context.js';
import type { DeviceRow, ImageRow } from '../data/entities.js';
import { addressesOf } from './addresses.js';
import { ownNow, ownPause } from '@barrow/wire';
import { signOfLife } from '../touch/alive.js';
import { readSystem } from '../touch/running-time.js';
import type { Offers, Told } from './offers.js';
import type { HttpStore } from './http-store.js';
import type { ListeningStore } from './stores.js';
import type { LiveTransfer, Transfers } from './transfers.js';
import { steadyNow } from '../steady.js';

/** How often what is awaited or moves is looked at. */
const lookEvery = 500;
/** However fast a demo device's time runs, the machine that waits for it has its own pace. */
const shortestPatience = 4000;

/** What a device said when it gave up; only these are about the transfer, and the store knows more about it than the device. */
/** How long a packet may take here from the socket to who looks at it, in milliseconds of our own time. */
const arrivingMs = 400;
const aboutTransfer = new Set(['never-asked', 'transfer-broken', 'no-space', 'image-refused', 'image-damaged', 'wrong-size-taken']);

interface Expected {
  readonly device: DeviceRow;
  /** What it is to fetch; null: it is to send a file of its own. */
  readonly image: ImageRow | null;
  /** Octets of the file; 0: not known. */
  readonly bytes: number;
  /** Addresses from which it asks as well, as persons have said. */
  readonly fetchesFrom: readonly string[];
  readonly told: Told;
  readonly protocol: StoreProtocol | 'tftp-write';
  /** Has the device ping the store; null: its family does not know how. */
  readonly reach: (() => Promise<boolean | null>) | null;
}

/** Waits for one device to fetch, and finds out why it does not go well. */
export class Watch {
  readonly since = steadyNow();
  readonly #began = ownNow();
  readonly #awaited: LiveTransfer;
  #answers: boolean | null = null;
  #ping: boolean | null = null;
  #askedAt = 0;
  /** It is being asked whether it answers: until that is known, silence has no cause. */
  #asking = false;
  #over = false;
  /** Until when another device was waited for under the same name, as far as was seen. */
  othersWaitedUntil: number | null = null;

  constructor(
    private readonly watches: Watches,
    readonly expected: Expected,
  ) {
    const { device, image, told, protocol, bytes } = expected;
    this.#awaited = watches.transfers.expect({
      device,
      site: device.site,
      protocol,
      peer: device.address,
      file: told.name,
      image: image?.sha256 ?? null,
      totalBytes: bytes,
      askedOptions: {},
    });
  }

  /** The transfers that it became, oldest first. */
  moves(): LiveTransfer[] {
    const { device, image, protocol } = this.expected;
    const content = image?.sha256 ?? null;
    return this.watches.transfers.since(
      this.since - 1,
      (r) =>
        r.device === device.id &&
        r.image === content &&
        (content !== null || r.protocol === protocol) &&
        r.state !== 'refused' &&
        r.state !== 'awaited',
    );
  }

  /** Whether it has not asked yet for the file of this name. */
  waitsFor(name: string): boolean {
    return this.expected.told.name === name && this.last.row.state === 'awaited';
  }

  get last(): LiveTransfer {
    const moves = this.moves();
    return moves[moves.length - 1] ?? this.#awaited;
  }

  /**
   * Before the device is told anything: a store that does not listen gives nothing, and who has its port is not to be asked.
   * @throws CauseError
   */
  needStore(): void {
    const [first] = explainTransfer(this.#evidence(null));
    if (first?.cause !== 'store-not-listening') return;
    this.#note([first]);
    throw new CauseError(first.cause, first.evidence.join(' '));
  }

  /** Whether the device answers at all, and, when it does and knows how, whether its own ping of the store is answered. */
  async #askDevice(retries: number): Promise<void> {
    const { device, reach } = this.expected;
    const { context } = this.watches;
    const family = context.families.get(device.family ?? '');
    // By whatever its family answers by: not everything has an agent.
    this.#answers = family
      ? (await signOfLife(context, device, family, 1000, retries)).answers
      : (await readSystem(context, device, 1000, retries)) !== null;
    if (!this.#answers || !reach || this.moves().length > 0) return;
    // A session that is refused or cut says nothing of the way to the store: once more, then it stays unknown.
    this.#ping = await reach()
      .catch(() => reach())
      .catch(() => null);
  }

  /** Now, but for the time in which we were not there to hear anything. */
  #now(): number {
    return this.since + ownNow() - this.#began;
  }

  /** Looks at it while it goes on; the device is asked whether it answers at all only when nothing comes. */
  async look(): Promise<void> {
    if (this.#over || this.#asking) return;
    const now = this.#now();
    if (this.moves().length === 0 && now - this.since > this.watches.patience && now - this.#askedAt > this.watches.patience) {
      this.#askedAt = now;
      this.#asking = true;
      await this.#askDevice(1).finally(() => (this.#asking = false));
    }
    if (!this.#over) this.#note(explainTransfer(this.#evidence(null)));
  }

  /**
   * The device has given up, or what it took is not right: what was the matter?
   * @returns the cause to report; the device's own when the store has nothing to say about it
   */
  async conclude(error: CauseError): Promise<CauseError> {
    const silent = error.code === 'session-lost' || error.code === 'unreachable' || error.code === 'no-answer-in-time';
    if (!aboutTransfer.has(error.code) && !silent) return error;
    // From here on nothing is told that was found before this.
    this.#asking = true;
    // A device that has just been lost may be silent for a moment only.
    await this.#askDevice(2);
    if (silent && this.#answers) return error;
    await this.#arrived();
    const findings = explainTransfer(this.#evidence(error));
    this.#note(findings);
    // It has given up: nothing more is sent to it.
    for (const { row, stop } of this.moves()) if (row.state === 'moving') stop?.('the device has given up');
    const [first] = findings;
    if (!first) return error;
    const said = wordsOf(error);
    const heard = first.evidence.some((e) => e.includes(said)) ? [] : [`${this.expected.device.name} said: ${said}`];
    return new CauseError(first.cause, [...first.evidence, ...heard].join(' '));
  }

  /** What it sent to the store before it said that it has given up may still be on its way. */
  async #arrived(): Promise<void> {
    const until = ownNow() + arrivingMs;
    while (ownNow() < until && this.moves().some(({ row }) => row.state === 'moving')) await ownPause(20);
  }

  /** What it holds was compared. */
  compared(by: ComparedBy): void {
    markCompared(this.watches.transfers, this.last, by);
  }

  /** Nobody waits any more. */
  end(): void {
    if (this.#over) return;
    this.#over = true;
    this.watches.drop(this);
    const { transfers, stores } = this.watches;
    const { device, protocol } = this.expected;
    if (this.#awaited.row.state !== 'awaited') return;
    const came =
      protocol === 'tftp-write'
        ? 'the device never sent it'
        : protocol === 'http' && stores.http.loginsMissing(device.id, this.since) > 0
          ? 'the device asked for it, and did not log in'
          : 'the device never asked for it';
    transfers.end(this.#awaited, 'broken', came);
  }

  /** It was there already, or fetched from somewhere else: nothing was to be waited for. */
  forget(): void {
    if (this.#over) return;
    this.#over = true;
    this.watches.drop(this);
    const one = this.#awaited;
    if (one.row.state === 'awaited') this.watches.transfers.end(one, 'done', 'nothing had to be fetched');
  }

  #note(findings: readonly TransferFinding[]): void {
    const one = this.last;
    const [first] = findings;
    const cause = first?.cause ?? null;
    if (one.row.cause === cause && JSON.stringify(one.row.findings) === JSON.stringify(findings)) return;
    one.row.cause = cause;
    one.row.evidence = first ? [...first.evidence] : [];
    one.row.findings = [...findings];
    if (one.row.endedAt !== null) this.watches.transfers.save(one);
    this.watches.transfers.tell(one, true);
  }

  #evidence(error: CauseError | null): Evidence {
    const { device, image, bytes, fetchesFrom, told } = this.expected;
    const protocol = this.expected.protocol === 'http' ? 'http' : 'tftp';
    const { offers, transfers, stores, patience } = this.watches;
    this.watches.seeOthersOf(this);
    const store = protocol === 'tftp' ? stores.tftp : stores.http;
    const addresses = addressesOf({ ...device, fetchesFrom: [...fetchesFrom] });
    const addressOf = (peer: string): string => peer.replace(/:\d+$/, '');
    const refusals = transfers.since(
      this.since - 1,
      (r) => r.state === 'refused' && (addresses.includes(addressOf(r.peer)) || (r.device === null && r.file === told.name)),
    );
    return {
      store: {
        protocol,
        ...store.state,
        addresses: store.hosts,
        port: store.port,
        told: told.address,
        toldElsewhere: offers.isElsewhere(told.address, protocol),
      },
      device: {
        name: device.name,
        addresses,
        answers: this.#answers,
        ping: this.#ping === null ? null : this.#ping ? 'reached' : 'not-reached',
      },
      file: told.name,
      bytes,
      staged: image ? offers.namesFor(device.address) : [told.name],
      since: this.since,
      now: this.#now(),
      patience,
      othersWaitedUntil: this.othersWaitedUntil,
      refusals: refusals.map(({ row }) => ({ at: row.askedAt, address: addressOf(row.peer), file: row.file, why: row.detail ?? '' })),
      loginsMissing: protocol === 'http' ? stores.http.loginsMissing(device.id, this.since) : 0,
      moves: this.moves().map(({ row, facts }) => ({
        at: row.askedAt,
        file: row.file,
        state: row.state as 'moving' | 'done' | 'broken',
        blockSize: row.blockSize ?? 0,
        windowSize: row.windowSize ?? 1,
        askedOptions: row.askedOptions,
        bytes: row.bytes,
        totalBytes: row.totalBytes,
        block: row.block,
        resent: row.resent,
        ...facts,
      })),
      words: error === null ? null : { cause: error.code, text: wordsOf(error) },
      holds:
        image && (error?.code === 'image-damaged' || error?.code === 'wrong-size-taken')
          ? { bytes: null, sha256: null, wanted: image.sha256 }
          : null,
    };
  }
}

/** The device's own words, without what it was told before. */
const wordsOf = (error: CauseError): string => error.detail.replace(/^to "?.*"? the device said: /s, '');

/** Notes by what a device's holding was compared with the image; only a digest proves the very content. */
export function markCompared(transfers: Transfers, one: LiveTransfer, by: ComparedBy): void {
  const verified = by === 'digest' ? true : null;
  if (one.row.comparedBy === by && one.row.verified === verified) return;
  one.row.comparedBy = by;
  one.row.verified = verified;
  transfers.save(one);
  transfers.tell(one, true);
}

/** Notes that the device holds something else. */
export function markDiffers(transfers: Transfers, one: LiveTransfer): void {
  one.row.comparedBy = 'digest';
  one.row.verified = false;
  transfers.save(one);
  transfers.tell(one, true);
}

/** Every transfer that is expected has a watch; they are looked at together. */
export class Watches {
  readonly #all = new Set<Watch>();
  #timer: NodeJS.Timeout | null = null;
  readonly patience: number;

  constructor(
    readonly context: Context,
    readonly transfers: Transfers,
    readonly offers: Offers,
    readonly stores: { readonly tftp: ListeningStore; readonly http: HttpStore },
  ) {
    this.patience = Math.max(shortestPatience, usualPatience / context.options.timeScale);
  }

  begin(expected: Expected): Watch {
    const watch = new Watch(this, expected);
    this.#all.add(watch);
    this.#timer ??= setInterval(() => {
      for (const one of this.#all)
        one.look().catch((error: unknown) => this.context.log.error({ error }, 'a transfer could not be looked at'));
    }, lookEvery);
    return watch;
  }

  /** Notes that another device is waited for that has not asked yet for a file of the same name. */
  seeOthersOf(watch: Watch): void {
    const name = watch.expected.told.name;
    for (const other of this.#all) {
      if (other === watch || !other.waitsFor(name)) continue;
      watch.othersWaitedUntil = steadyNow();
      return;
    }
  }

  drop(watch: Watch): void {
    this.#all.delete(watch);
    // Who asked for that name until now may have been this one.
    const name = watch.expected.told.name;
    if (watch.last.row.state === 'awaited') for (const other of this.#all) if (other.waitsFor(name)) other.othersWaitedUntil = steadyNow();
    if (this.#all.size > 0 || !this.#timer) return;
    clearInterval(this.#timer);
    this.#timer = null;
  }

  stop(): void {
    for (const watch of [...this.#all]) watch.end();
  }
}
