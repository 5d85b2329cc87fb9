import type { CauseCode } from '@barrow/core';
import type { Context, LoginDoubts } from '../context.js';
import { DeviceEntity, type CredentialRow, type DeviceRow } from '../data/entities.js';
import { steadyNow } from '../steady.js';
import { letsIn } from './let-in.js';

/** A login that so many refuse was changed, or the server that knows it is away: it is not the fault of one of them. */
const many = 3;
/** Of the others at which it worked so many are asked at most: those that do not answer say nothing. */
const mostAsked = 5;
/** What was longer ago, in the device's time, is another story; in ours it lasts a minute at least. */
const together = { theirs: 15 * 60_000, least: 60_000 };
/** While it is in doubt, one login is tried so often: first, and then each time after twice as long, at most. */
const tryEvery = { first: 60_000, most: 10 * 60_000, least: 1000 };
/** Among so many it is looked for those. */
const mostRead = 200;
const mostNamed = 3;
/** So long somebody who needs it waits for it at most. */
const longest = { theirs: 60 * 60_000, least: 15_000 };

/** What a login says of itself or of the server that knows it, and not of the device: nothing was told to that. */
export const isLoginDoubt = (code: CauseCode): boolean => code === 'credential-suspended' || code === 'login-slow';

export const longestDoubt = (timeScale: number): number => Math.max(longest.least, longest.theirs / timeScale);
/** Between two looks whether it is to be tried again. */
export const doubtPause = (timeScale: number): number => Math.max(250, 5000 / timeScale);

interface Doubt {
  readonly name: string;
  /** Who refused it since it was last let in. */
  readonly by: Map<string, { readonly name: string; readonly at: number }>;
  stands: boolean;
  nextTry: number;
  every: number;
}

/**
 * Logins that had worked and are refused now. Where one is, others at which it worked are asked, until one lets it in or several refuse
 * it: the first is a fault of that device, the second one of the login. Of such a login one try is made now and then, by whoever is next,
 * so that no account is locked by us.
 */
export class Doubts implements LoginDoubts {
  readonly #of = new Map<string, Doubt>();
  readonly #looking = new Map<string, Promise<void>>();
  #inHand: () => ReadonlyMap<string, unknown> = () => new Map();

  constructor(
    private readonly timeScale: number,
    private readonly ask: typeof letsIn = letsIn,
  ) {}

  async refused(context: Context, credential: CredentialRow, protocol: 'ssh' | 'http', device: DeviceRow): Promise<string | null> {
    const doubt = this.#of.get(credential.id) ?? { name: credential.name, by: new Map(), stands: false, nextTry: 0, every: tryEvery.first };
    this.#of.set(credential.id, doubt);
    doubt.by.set(device.id, { name: device.name, at: steadyNow() });
    if (doubt.stands) return detailOf(doubt);
    const looking = this.#looking.get(credential.id) ?? this.#askOthers(context, credential, protocol, doubt);
    this.#looking.set(credential.id, looking);
    await looking.finally(() => this.#looking.delete(credential.id));
    // It was let in meanwhile.
    if (this.#of.get(credential.id) !== doubt || !this.#isByMany(doubt)) return null;
    if (!doubt.stands) {
      doubt.stands = true;
      this.#putOff(doubt);
      context.log.warn({ credential: doubt.name }, detailOf(doubt));
    }
    return detailOf(doubt);
  }

  leaveAlone(inHand: () => ReadonlyMap<string, unknown>): void {
    this.#inHand = inHand;
  }

  forget(credential: string): void {
    this.#of.delete(credential);
  }

  standing(credential: string): string | null {
    const doubt = this.#of.get(credential);
    return doubt?.stands ? detailOf(doubt) : null;
  }

  whyNot(credential: string): string | null {
    const doubt = this.#of.get(credential);
    if (!doubt?.stands) return null;
    if (steadyNow() < doubt.nextTry) return detailOf(doubt);
    this.#putOff(doubt);
    return null;
  }

  rests(detail: string): boolean {
    const now = steadyNow();
    return [...this.#of.values()].some((d) => d.stands && now < d.nextTry && detail.startsWith(`${d.name} had worked `));
  }

  #putOff(doubt: Doubt): void {
    doubt.nextTry = steadyNow() + Math.max(tryEvery.least, doubt.every / this.timeScale);
    doubt.every = Math.min(tryEvery.most, doubt.every * 2);
  }

  #isByMany({ by }: Doubt): boolean {
    const since = steadyNow() - Math.max(together.least, together.theirs / this.timeScale);
    for (const [id, { at }] of by) if (at < since) by.delete(id);
    return by.size >= many;
  }

  async #askOthers(context: Context, credential: CredentialRow, protocol: 'ssh' | 'http', doubt: Doubt): Promise<void> {
    const besides = JSON.stringify([...doubt.by.keys()]);
    const found = await context.db.select<{ id: string }>(
      `select id from device where address <> '' and json_extract(credentials, '$.' || ?) = ?
        and id not in (select value from json_each(?)) order by last_seen desc limit ?`,
      [protocol, credential.id, besides, mostRead],
    );
    const inHand = this.#inHand();
    let refused = 0;
    for (const { id } of found.filter((d) => !inHand.has(d.id)).slice(0, mostAsked)) {
      const other = await context.db.findOne(DeviceEntity, { id });
      const end = other && (await this.ask(context, other, protocol, credential));
      if (end === 'opened') return this.forget(credential.id);
      if (end !== 'refused') continue;
      doubt.by.set(id, { name: other!.name, at: steadyNow() });
      if (++refused === many - 1) return;
    }
  }
}

function detailOf({ name, by }: Doubt): string {
  const names = [...by.values()].map((d) => d.name);
  const more = names.length > mostNamed ? ` and ${names.length - mostNamed} more` : '';
  return `${name} had worked and is refused by ${names.slice(0, mostNamed).join(', ')}${more} now: its secret was changed, or the server that knows it is away; it is tried again now and then`;
}
