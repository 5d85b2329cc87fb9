/** What tells one device from another, as it was seen or as it is recorded. */
export interface Identity {
  readonly maker: string | null;
  readonly serial: string | null;
  /** Serials of the members of a stack. */
  readonly memberSerials: readonly string[];
  readonly mac: string | null;
  readonly engineId: string | null;
  readonly address: string | null;
  /** All addresses that it says are its own, `address` among them when known. */
  readonly addresses: readonly string[];
}

export interface KnownIdentity extends Identity {
  readonly id: string;
  readonly name: string;
}

export const flagNames = ['same-serial', 'address-taken', 'took-address'] as const;
/** Something that a person must look at, because it may be two devices or one. */
export interface Flag {
  readonly flag: (typeof flagNames)[number];
  readonly detail: string;
  /** The other device that is meant. */
  readonly other: string | null;
}

export interface Verdict {
  /** The known device that was seen; null when it is new. */
  readonly id: string | null;
  /** The key to make an id from when it is new. */
  readonly key: string;
  /** It was seen in this same discovery at another of its addresses. */
  readonly again: boolean;
  readonly flags: readonly Flag[];
  /** A known device whose address this one holds now, though it is another. */
  readonly displaced: string | null;
}

/** Serials are compared without case and blanks; makers are left out, since not every probe tells them. */
const plain = (serial: string): string => serial.replace(/\s+/g, '').toUpperCase();

/** Serials that mean "none": makers ship boards with them. */
const empty = /^(?:0+|X+|N\/?A|NONE|UNKNOWN|DEFAULT.*|TOBEFILLED.*|12345678?9?0?)$/;

export function usableSerial(serial: string | null): string | null {
  return serial === null || plain(serial) === '' || empty.test(plain(serial)) ? null : serial;
}

/**
 * Says of each thing that is seen which known device it is. By serial, or that of a stack's member; else by MAC; else by
 * SNMP engine ID; by its address only when it tells none of these. Two with one serial are never made one.
 */
export class IdentityIndex {
  readonly #known = new Map<string, KnownIdentity>();
  readonly #bySerial = new Map<string, Set<string>>();
  readonly #byMac = new Map<string, string>();
  readonly #byEngine = new Map<string, string>();
  readonly #byAddress = new Map<string, string>();
  /** Where each device was seen in this discovery. */
  readonly #seenAt = new Map<string, Identity>();

  constructor(known: Iterable<KnownIdentity>) {
    for (const one of known) this.#add(one);
  }

  #add(one: KnownIdentity): void {
    this.#known.set(one.id, one);
    for (const serial of [one.serial, ...one.memberSerials]) {
      const usable = usableSerial(serial);
      if (usable === null) continue;
      const set = this.#bySerial.get(plain(usable)) ?? new Set();
      set.add(one.id);
      this.#bySerial.set(plain(usable), set);
    }
    if (one.mac !== null) this.#byMac.set(one.mac, one.id);
    if (one.engineId !== null) this.#byEngine.set(one.engineId, one.id);
    for (const address of [one.address, ...one.addresses]) if (address !== null) this.#byAddress.set(address, one.id);
  }

  /** Forgets nothing of what was known, and takes what is seen for the present. */
  seen(id: string, name: string, now: Identity): void {
    this.#seenAt.set(id, now);
    this.#add({ ...now, id, name });
  }

  /** The known devices that bear any of these serials. */
  withSerial(serials: readonly (string | null)[]): KnownIdentity[] {
    const ids = new Set(serials.flatMap((s) => [...(this.#bySerial.get(plain(usableSerial(s) ?? '')) ?? [])]));
    return [...ids].map((id) => this.#known.get(id)!);
  }

  /** The device that is known at an address. */
  at(address: string): KnownIdentity | null {
    const id = this.#byAddress.get(address);
    const found = id === undefined ? undefined : this.#known.get(id);
    return found !== undefined && (found.address === address || found.addresses.includes(address)) ? found : null;
  }

  resolve(now: Identity): Verdict {
    const flags: Flag[] = [];
    const serials = [now.serial, ...now.memberSerials].map(usableSerial).filter((s): s is string => s !== null);
    const same = new Set<string>();
    for (const serial of serials) for (const id of this.#bySerial.get(plain(serial)) ?? []) same.add(id);
    let id: string | null = null;
    if (same.size > 0) {
      const candidates = [...same];
      // Several with one serial: the one whose MAC, engine or address fits is the one that is seen again.
      id = candidates.find((c) => this.#fits(c, now)) ?? candidates.find((c) => !this.#seenAt.has(c) && !this.#contradicts(c, now)) ?? null;
      const others = candidates.filter((c) => c !== id);
      for (const other of others)
        flags.push({
          flag: 'same-serial',
          other,
          detail: `${this.#known.get(other)?.name ?? other} at ${this.#known.get(other)?.address ?? 'an unknown address'} tells the serial ${serials[0]} too`,
        });
    } else if (now.mac !== null && this.#byMac.has(now.mac)) id = this.#unlessOtherSerial(this.#byMac.get(now.mac)!, serials);
    else if (now.engineId !== null && this.#byEngine.has(now.engineId)) {
      const found = this.#unlessOtherSerial(this.#byEngine.get(now.engineId)!, serials);
      // An engine ID is configuration, and configurations are copied: another MAC makes it another device.
      const mac = found === null ? null : this.#known.get(found)!.mac;
      id = found !== null && (mac === null || now.mac === null || mac === now.mac) ? found : null;
    }
    let displaced: string | null = null;
    const holder = now.address === null ? null : (this.#byAddress.get(now.address) ?? null);
    const tells = serials.length > 0 || now.mac !== null || now.engineId !== null;
    if (id === null && holder !== null) {
      const held = this.#known.get(holder)!;
      const isWeak = usableSerial(held.serial) === null && held.mac === null && held.engineId === null;
      // What tells nothing of itself, or was known by its address alone, is believed to be what was there.
      if (!tells || (isWeak && same.size === 0)) id = holder;
    }
    if (id !== holder && holder !== null && now.address !== null && this.#known.get(holder)!.address === now.address) {
      const held = this.#known.get(holder)!;
      if (!this.#seenAt.has(holder) || this.#seenAt.get(holder)!.address === now.address) {
        displaced = holder;
        flags.push({
          flag: 'took-address',
          other: holder,
          detail: `${now.address} was ${held.name}'s (serial ${held.serial ?? 'not known'})`,
        });
      }
    }
    const before = id === null ? undefined : this.#seenAt.get(id);
    const key =
      serials.length > 0 && same.size === 0
        ? `serial/${now.maker ?? ''}/${serials[0]}`
        : serials.length > 0
          ? `serial/${serials[0]}/${now.mac ?? now.engineId ?? now.address}`
          : now.mac !== null
            ? `mac/${now.mac}`
            : now.engineId !== null
              ? `engine/${now.engineId}`
              : `address/${now.address}`;
    return { id, key, again: before !== undefined && before.address !== now.address, flags, displaced };
  }

  /** Whether a known device is positively this one, by more than its serial. */
  #fits(id: string, now: Identity): boolean {
    const known = this.#seenAt.get(id) ?? this.#known.get(id)!;
    if (now.mac !== null && known.mac !== null) return now.mac === known.mac || this.#shareAddress(known, now);
    if (now.engineId !== null && known.engineId !== null) return now.engineId === known.engineId;
    return this.#shareAddress(known, now);
  }

  #shareAddress(known: Identity, now: Identity): boolean {
    const own = new Set([known.address, ...known.addresses]);
    return [now.address, ...now.addresses].some((a) => a !== null && own.has(a));
  }

  /** Seen in this discovery with another MAC or engine: then it is not this one. */
  #contradicts(id: string, now: Identity): boolean {
    const seen = this.#seenAt.get(id);
    return seen !== undefined && !this.#fits(id, now);
  }

  #unlessOtherSerial(id: string, serials: readonly string[]): string | null {
    const known = this.#known.get(id)!;
    const own = [known.serial, ...known.memberSerials].map(usableSerial).filter((s): s is string => s !== null);
    if (serials.length === 0 || own.length === 0) return id;
    return serials.some((s) => own.some((o) => plain(o) === plain(s))) ? id : null;
  }
}
