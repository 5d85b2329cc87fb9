import { meantName, windowInput, type Site, type SiteInput } from '@barrow/core';
import { sharedLink, type SharedLink } from '@barrow/wire';
import type { Context } from '../context.js';
import { CredentialEntity, SiteEntity, type SiteRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import { windowFor } from '../windows.js';

/** Octets in a second. */
const octetsOf = (kilobits: number): number => kilobits * 125;

const unsaid = (name: string): SiteRow => ({
  name,
  linkKilobits: null,
  storeAddress: null,
  store: null,
  window: null,
  contact: null,
  asked: null,
});

/** What is said of sites as a whole: how fast their links are, at what address they see Barrow, what stores they have. */
export class Sites {
  readonly #rows = new Map<string, SiteRow>();
  readonly #links = new Map<string, SharedLink>();

  constructor(private readonly context: Context) {}

  async load(): Promise<void> {
    for (const row of await this.context.db.find(SiteEntity)) this.#rows.set(row.name, row);
  }

  get(name: string): SiteRow {
    return this.#rows.get(name) ?? unsaid(name);
  }

  /** The link that everything sent to a site shares; null: as fast as it goes. In the demo, links run as fast as the devices' time. */
  linkOf(name: string): SharedLink | null {
    const { linkKilobits } = this.get(name);
    if (linkKilobits === null) return null;
    const link = sharedLink(name, octetsOf(linkKilobits) * this.context.options.timeScale, this.#links.get(name));
    this.#links.set(name, link);
    return link;
  }

  /** Who is there, by site; a site of which nobody said is left out. */
  contacts(): ReadonlyMap<string, string> {
    return new Map([...this.#rows.values()].flatMap(({ name, contact }) => (contact === null ? [] : [[name, contact] as const])));
  }

  /** Octets in a second over each link that has a limit, by site; as fast as the devices' time. */
  linkRates(): Record<string, number> {
    const limited = [...this.#rows.values()].flatMap(({ name, linkKilobits: rate }) => (rate === null ? [] : [[name, rate] as const]));
    return Object.fromEntries(limited.map(([name, rate]) => [name, octetsOf(rate) * this.context.options.timeScale]));
  }

  /** Those of which somebody was asked what lives hang on. */
  asked(): ReadonlySet<string> {
    return new Set([...this.#rows.values()].filter((r) => r.asked !== null).map((r) => r.name));
  }

  /** @throws Refusal when no device and no network is there, or the credential is not known. */
  async set(name: string, input: SiteInput): Promise<SiteRow> {
    const { db, live } = this.context;
    const names = await this.names();
    if (!names.has(name)) {
      const meant = meantName(name, [...names.keys()]);
      throw notFound(
        'site',
        name,
        `${meant === null ? '' : `Is ${meant} meant? `}\`barrow site list\` shows those of the devices and networks.`,
      );
    }
    const credential = input.store?.credential ?? null;
    if (credential !== null && !(await db.findOne(CredentialEntity, { name: credential })))
      throw new Refusal(422, 'credential-unknown', 'The site was not changed', `There is no credential "${credential}".`, 'Add it first.');
    // Refused where it is said, not when somebody plans.
    if (input.window) windowFor(windowInput.parse(input.window), Date.now());
    const before = this.get(name);
    const row: SiteRow = {
      name,
      linkKilobits: input.linkKilobits === undefined ? before.linkKilobits : input.linkKilobits,
      storeAddress: input.storeAddress === undefined ? before.storeAddress : input.storeAddress,
      store:
        input.store === undefined
          ? before.store
          : input.store === null
            ? null
            : { ...input.store, credential, hostKey: input.store.hostKey ?? null },
      window: input.window === undefined ? before.window : input.window && windowInput.parse(input.window),
      contact: input.contact === undefined ? before.contact : (input.contact?.trim() ?? null),
      asked: input.asked === undefined ? before.asked : (input.asked?.trim() ?? null),
    };
    await db.write(async (em) => em.upsert(SiteEntity, row));
    this.#rows.set(name, row);
    live.changed('sites');
    return row;
  }

  /** Pins the key that the store of a site showed first. */
  async pin(name: string, hostKey: string): Promise<void> {
    const row = this.get(name);
    if (row.store) await this.set(name, { store: { ...row.store, hostKey } });
  }

  /** All sites, with how many devices each has. */
  async names(): Promise<ReadonlyMap<string, number>> {
    const counted = await this.context.db.select<{ site: string; n: number }>('select site, count(*) as n from device group by site');
    const counts = new Map(counted.map(({ site, n }) => [site, n]));
    for (const name of this.#rows.keys()) if (!counts.has(name)) counts.set(name, 0);
    return new Map([...counts].sort(([a], [b]) => (a < b ? -1 : 1)));
  }

  async list(waiting: (site: string) => { bytes: number; secondsLeft: number | null }): Promise<Omit<Site, 'here'>[]> {
    return [...(await this.names())].map(([name, devices]) => {
      const { bytes, secondsLeft } = waiting(name);
      const row = this.get(name);
      return { ...row, windowText: row.window && windowFor(row.window, Date.now())!.text, devices, waitingBytes: bytes, secondsLeft };
    });
  }
}
