import type { Context } from '../context.js';
import { CredentialEntity, DeviceEntity, type CredentialRow, type NetworkRow } from '../data/entities.js';
import type { Protocol } from '../touch/access.js';
import { choose, leftDetail } from '../touch/choose.js';
import { noteRefusal, refusals } from '../touch/refusals.js';
import type { Reading, Trouble } from './reading.js';

/** A login that had worked, refused by so many devices, was changed or its server is away: it is tried no more. */
const refusedByMany = 3;
/** Logins with one credential at the same time: a wrong one must be noticed before it has been tried everywhere. */
const triesAtOnce = 2;

/** Which credential is tried where, in which order, and which is left alone. One for each discovery. */
export class Access {
  readonly #refused = new Set<string>();
  readonly #remembered = new Map<string, Record<string, string>>();
  readonly #byMany = new Map<string, Set<string>>();
  readonly #suspended = new Set<string>();

  private constructor(
    private readonly context: Context,
    readonly all: ReadonlyMap<string, CredentialRow>,
  ) {}

  static async load(context: Context): Promise<Access> {
    const { db } = context;
    const [credentials, refused, devices] = await Promise.all([
      db.find(CredentialEntity),
      refusals(context),
      db.find(DeviceEntity, {}, { fields: ['id', 'address', 'credentials', 'snmpCredential'] }),
    ]);
    const access = new Access(context, new Map(credentials.map((c) => [c.id, c])));
    for (const { credential, address, at } of refused)
      // A credential that was put in anew since then may be tried.
      if ((access.all.get(credential)?.createdAt ?? Infinity) < at) access.#refused.add(`${credential}|${address}`);
    for (const { address, credentials: worked, snmpCredential } of devices)
      if (address !== '') access.#remembered.set(address, { ...(snmpCredential === null ? {} : { snmp: snmpCredential }), ...worked });
    return access;
  }

  /** What to try at an address: what worked last first, then in the network's order; nothing that was refused there. */
  candidates(protocol: Protocol, network: NetworkRow, address: string): CredentialRow[] {
    return this.#choose(protocol, network, address).may.filter((c) => !this.#suspended.has(c.id));
  }

  #choose(protocol: Protocol, network: NetworkRow, address: string): { may: CredentialRow[]; left: CredentialRow[] } {
    return choose(protocol, {
      all: this.all,
      named: network.credentials,
      worked: this.#remembered.get(address)?.[protocol] ?? null,
      isRefused: (c) => this.#refused.has(`${c.id}|${address}`),
    });
  }

  /** Why there is nothing to try at an address: what is there was refused lately and is left alone, or nothing fits. */
  whyNone(protocol: Protocol, { network, address }: Pick<Reading, 'network' | 'address'>, none: string): Omit<Trouble, 'probe'> {
    const { may, left } = this.#choose(protocol, network, address);
    const suspended = [...may, ...left].filter((c) => this.#suspended.has(c.id));
    const names = (of: readonly CredentialRow[]): string[] => of.map((c) => c.name);
    if (suspended.length > 0) return { cause: 'credential-suspended', detail: suspendedDetail(names(suspended).join(', ')) };
    return left.length > 0 ? { cause: 'login-refused', detail: leftDetail(names(left)) } : { cause: 'no-credential', detail: none };
  }

  isSuspended(credential: CredentialRow): boolean {
    return this.#suspended.has(credential.id);
  }

  readonly #turns = new Map<string, { busy: number; readonly waiting: (() => void)[] }>();

  /** Does one try with a credential when its turn has come; null when it was given up meanwhile. */
  async inTurn<T>(credential: CredentialRow, work: () => Promise<T>): Promise<T | null> {
    const turns = this.#turns.get(credential.id) ?? { busy: 0, waiting: [] };
    this.#turns.set(credential.id, turns);
    while (turns.busy >= triesAtOnce) await new Promise<void>((resolve) => turns.waiting.push(resolve));
    if (this.#suspended.has(credential.id)) {
      turns.waiting.shift()?.();
      return null;
    }
    turns.busy++;
    try {
      return await work();
    } finally {
      turns.busy--;
      turns.waiting.shift()?.();
    }
  }

  /** Notes a refusal. Communities are not accounts: they lock nothing, and are not kept. */
  async refused(credential: CredentialRow, protocol: Protocol, address: string): Promise<void> {
    if (credential.kind === 'snmp-v2c') return;
    this.#refused.add(`${credential.id}|${address}`);
    if (this.#remembered.get(address)?.[protocol] === credential.id) {
      const by = this.#byMany.get(credential.id) ?? new Set();
      by.add(address);
      this.#byMany.set(credential.id, by);
      if (by.size >= refusedByMany) this.#suspended.add(credential.id);
    }
    await noteRefusal(this.context, credential, address);
  }

  /** What a person must know of credentials that were given up. */
  problems(): string[] {
    return [...this.#suspended].map((id) => {
      const by = [...(this.#byMany.get(id) ?? [])];
      return `credential ${this.all.get(id)?.name ?? id} had worked and is now refused by ${by.slice(0, 3).join(', ')}${by.length > 3 ? ` and ${by.length - 3} more` : ''}: Barrow stopped trying it. Its secret was probably changed, or a login server is away.`;
    });
  }
}

/** What is said where a credential was not tried since several devices refuse it now. */
export const suspendedDetail = (name: string): string =>
  `${name} had worked and is refused by several devices now, so it was not tried here`;
