import {
  believe,
  believedFields,
  knownHardware,
  IdentityIndex,
  kindByStandards,
  type Approval,
  type Belief,
  type Discovery,
  type Finding,
  type Identity,
  type KnownIdentity,
  type Kind,
  type ShownHost,
  type Shows,
} from '@barrow/core';
import type { EntityManager } from '@mikro-orm/libsql';
import type { Family } from '@barrow/families';
import type { Context } from '../context.js';
import { DeviceEntity, HistoryEntity, ObservationEntity, SurroundingsEntity, type DeviceFlag, type DeviceRow } from '../data/entities.js';
import { digestOf } from '../data/seal.js';
import { awaitingFlag } from '../touch/sparing.js';
import type { KnownHost } from './probes/procedures.js';
import type { Hearsay, Reading, Seen } from './reading.js';

/** Observations that are kept of one device and probe. */
const keptObservations = 20;
/** What changes by itself is left out when two answers are compared: sysUpTime, hrSystemDate. */
const volatile = /^1\.3\.6\.1\.2\.1\.(1\.3|25\.1\.2)\.0$/;

export type Found = Discovery['found'][number];

/** Fields whose changes make a device "changed", in words. */
const compared = [
  ['address', 'address'],
  ['name', 'name'],
  ['maker', 'maker'],
  ['model', 'model'],
  ['hardwareRevision', 'hardware revision'],
  ['serial', 'serial'],
  ['mac', 'MAC'],
  ['firmware', 'firmware'],
  ['bootLoader', 'boot loader'],
  ['family', 'family'],
  ['site', 'site'],
  ['parent', 'parent'],
] as const;

/** Turns what was read into records: who is who, what is believed, what changed. One for each discovery. */
export class Placing {
  readonly #index: IdentityIndex;
  readonly rows: Map<string, DeviceRow>;
  readonly seen = new Set<string>();
  readonly #digests: Map<string, { id: number; digest: string }>;
  /** Approved hosts by the key that proves them. */
  readonly #approvals: ReadonlyMap<string, Approval>;

  private constructor(
    private readonly context: Context,
    rows: readonly DeviceRow[],
    digests: Map<string, { id: number; digest: string }>,
  ) {
    this.rows = new Map(rows.map((r) => [r.id, r]));
    this.#index = new IdentityIndex(rows.map(identityOf));
    this.#digests = digests;
    this.#approvals = new Map(rows.flatMap(({ approved }) => (approved?.hostKey ? [[approved.hostKey, approved] as const] : [])));
  }

  static async load(context: Context): Promise<Placing> {
    const [rows, latest] = await Promise.all([
      context.db.find(DeviceEntity),
      context.db.select<{ id: number; device: string; probe: string; digest: string }>(
        'select id, device, probe, digest from observation where id in (select max(id) from observation group by device, probe)',
      ),
    ]);
    return new Placing(context, rows, new Map(latest.map((o) => [`${o.device}|${o.probe}`, { id: o.id, digest: o.digest }])));
  }

  /** The known device at an address, before anything is said of who answers there now. */
  at(address: string): DeviceRow | null {
    const known = this.#index.at(address);
    return known === null ? null : this.rows.get(known.id)!;
  }

  /** What is known of the host at an address: by its key wherever it is, else by what was known there. */
  hostAt({ address, hostKey }: Reading): KnownHost {
    const there = this.at(address);
    return {
      pinned: there?.hostKey ?? null,
      approval: (protocol) =>
        (protocol === 'ssh' && hostKey !== null ? this.#approvals.get(hostKey) : undefined) ?? there?.approved ?? null,
    };
  }

  /**
   * When a reading may be placed: 0 at once; 1 when everything has been read, since it tells a serial that is known
   * elsewhere; 2 after those, since another device was known at its address, which may have moved.
   */
  turnOf(reading: Reading): 0 | 1 | 2 {
    const { values } = believe(reading.findings);
    const known = this.#index.withSerial([values.serial, ...reading.members.map((m) => m.serial)]);
    if (known.length > 0) return known.some((k) => k.address === reading.address) ? 0 : 1;
    const holder = this.#index.at(reading.address);
    return holder === null || holder.mac === values.mac || holder.engineId === reading.engineId ? 0 : 2;
  }

  /** Places what answered at an address. */
  async place(reading: Reading): Promise<Found | null> {
    const belief = believe(reading.findings);
    const { address, network, at, recognised } = reading;
    const engineId = reading.engineId;
    const identity: Identity = {
      maker: belief.values.maker,
      serial: belief.values.serial,
      memberSerials: reading.members.flatMap((m) => m.serial ?? []),
      mac: belief.values.mac,
      engineId,
      address,
      addresses: reading.around?.addresses ?? [],
    };
    const verdict = this.#index.resolve(identity);
    const known = verdict.id === null ? null : this.rows.get(verdict.id)!;
    if (known && verdict.again) {
      await this.#anotherAddress(known, address);
      return null;
    }
    const merged = merge(belief, known);
    const family = recognised?.family ?? (known?.family ? (this.context.families.get(known.family) ?? null) : null);
    const byStandard = kindByStandards({
      capabilities: reading.capabilities,
      isOnvif: reading.heard.onvif !== undefined,
      sip: reading.heard.sip ? (reading.heard.sip.userAgent !== null ? 'agent' : 'server') : null,
      services: reading.services,
      forwards: (reading.around?.forwarding.length ?? 0) > 0,
    });
    const hostKeyChanged = known !== null && known.hostKey !== null && reading.hostKey !== null && reading.hostKey !== known.hostKey;
    const flags: DeviceFlag[] = [
      ...verdict.flags.map((f) => ({ ...f, at: since(known, f.flag, f.other, at) })),
      ...(hostKeyChanged
        ? [
            {
              flag: 'host-key' as const,
              other: null,
              detail: `it shows SSH host key ${reading.hostKey}, pinned is ${known.hostKey}`,
              at: since(known, 'host-key', null, at),
            },
          ]
        : []),
      // Whoever took an address is marked so until the other is seen elsewhere.
      ...(known?.flags.filter(
        (f) =>
          f.flag === 'took-address' &&
          !verdict.flags.some((v) => v.flag === 'took-address') &&
          f.other !== null &&
          this.rows.get(f.other)?.flags.some((o) => o.flag === 'displaced'),
      ) ?? []),
    ];
    const shown: ShownHost = { address, hostKey: known?.hostKey ?? reading.hostKey, family: family?.family ?? null };
    const isTrustedNow = network.trustNow && !hostKeyChanged && recognised !== null;
    if (reading.withheld.length > 0) flags.push(awaitingFlag(known, shown, [...new Set(reading.withheld)], at));
    if (hostKeyChanged)
      reading.troubles.push({
        probe: 'SSH',
        cause: 'host-key-changed',
        detail: `${reading.hostKey} is not the pinned ${known.hostKey}; nobody logs in until it is accepted`,
      });
    const id = known?.id ?? `d-${digestOf(verdict.key).slice(0, 10)}`;
    const row = this.#row(id, known, merged, {
      name: merged.name ?? known?.name ?? address,
      address,
      addresses: [...new Set([...(reading.around?.addresses ?? known?.addresses ?? [])])].filter((a) => a !== address),
      kind: family?.kind ?? byStandard?.kind ?? (known?.kind as Kind | undefined) ?? 'other',
      engineId: engineId ?? known?.engineId ?? null,
      family: family?.family ?? null,
      familyEvidence: recognised?.evidence ?? (family ? (known?.familyEvidence ?? null) : (byStandard?.because ?? null)),
      variant: merged.variant ?? soleVariant(family, merged.model),
      maker: merged.maker ?? family?.maker ?? null,
      site: network.site,
      network: network.name,
      snmpCredential: reading.credentials['snmp'] ?? known?.snmpCredential ?? null,
      credentials: { ...known?.credentials, ...reading.credentials },
      hostKey: known?.hostKey ?? reading.hostKey,
      shownHostKey: hostKeyChanged ? reading.hostKey : null,
      armed: stillArmed(
        known,
        reading.agentUptime === null ? null : at - reading.agentUptime / this.context.options.timeScale,
        merged.firmware,
      ),
      fetchesFrom: known?.fetchesFrom ?? [],
      told: known?.told ?? null,
      shows: showsNow(known, reading.shows),
      approved: isTrustedNow
        ? { ...shown, at, by: `network ${network.name}, where what was found was trusted` }
        : (known?.approved ?? null),
      upSince: reading.agentUptime === null ? (known?.upSince ?? null) : at - reading.agentUptime / this.context.options.timeScale,
      members: reading.around !== null && !(reading.isPartial && known) ? [...reading.members] : (known?.members ?? []),
      outlets: reading.outlets === null ? (known?.outlets ?? []) : [...reading.outlets],
      parent: known?.parent ?? null,
      onParent: known?.onParent ?? null,
      firmwareNote: merged.firmware !== null ? null : firmwareNote(reading, family?.howToFind.firmware),
      believedBy: { ...known?.believedBy, ...belief.by },
      flags,
      lastSeen: at,
    });
    const displaced = verdict.displaced === null ? null : this.rows.get(verdict.displaced)!;
    const found = await this.#write(row, known, belief, reading.seen, address, at, async (em) => {
      if (reading.around && !(reading.isPartial && known)) await em.upsert(SurroundingsEntity, { device: id, at, data: reading.around });
      if (displaced) {
        const mark: DeviceFlag = {
          flag: 'displaced',
          other: id,
          detail: `${row.name} (serial ${row.serial ?? 'not known'}) answers at its address ${address}`,
          at,
        };
        displaced.flags = [...displaced.flags.filter((f) => f.flag !== 'displaced'), mark];
        await em.nativeUpdate(DeviceEntity, { id: displaced.id }, { flags: displaced.flags });
      }
    });
    return {
      ...found,
      recognised: family !== null,
      flags: flags.map((f) => `${f.flag}: ${f.detail}`),
    };
  }

  /** Places what a parent says of one that it manages. null for a row that names nothing to know it by. */
  async placeChild(parent: DeviceRow, told: Readonly<Record<string, string>>, hearsay: Hearsay, at: number): Promise<Found | null> {
    const family = this.context.families.get(told['family'] ?? '') ?? null;
    const value = (key: string): string | null => told[key]?.trim() || null;
    const mac = value('mac')?.toLowerCase() ?? null;
    const probe = `told by ${parent.name}`;
    const findings: Finding[] = [
      {
        probe,
        values: {
          name: value('name'),
          maker: family?.maker ?? null,
          model: value('model'),
          hardwareRevision: value('hardwareRevision'),
          serial: value('serial'),
          mac,
          firmware: value('firmware'),
          bootLoader: value('bootLoader'),
        },
      },
    ];
    const heard = hearsay.neighbour(null, mac);
    if (heard?.neighbour.inventory) findings.push({ probe: `LLDP-MED, heard by ${heard.by}`, values: heard.neighbour.inventory });
    const belief = believe(findings);
    if (belief.values.serial === null && belief.values.mac === null) return null;
    const verdict = this.#index.resolve({
      maker: belief.values.maker,
      serial: belief.values.serial,
      memberSerials: [],
      mac: belief.values.mac,
      engineId: null,
      address: null,
      addresses: [],
    });
    const known = verdict.id === null ? null : this.rows.get(verdict.id)!;
    const merged = merge(belief, known);
    // What the parent no longer tells is not believed any longer of one that only the parent knows.
    if (belief.values.firmware === null && (known === null || known.address === '')) merged.firmware = null;
    const port = value('port');
    const link = told['link'] === 'wired' || told['link'] === 'wireless' ? told['link'] : 'none';
    const how = family?.howToFind.firmware;
    const row = this.#row(known?.id ?? `d-${digestOf(verdict.key).slice(0, 10)}`, known, merged, {
      name: merged.name ?? known?.name ?? belief.values.serial ?? belief.values.mac!,
      address: known?.address ?? '',
      addresses: known?.addresses ?? [],
      kind: family?.kind ?? (known?.kind as Kind | undefined) ?? 'other',
      engineId: known?.engineId ?? null,
      family: family?.family ?? known?.family ?? null,
      familyEvidence: family ? `${parent.name} lists it` : (known?.familyEvidence ?? null),
      variant: soleVariant(family, merged.model),
      maker: merged.maker,
      site: value('site') ?? parent.site,
      network: parent.network,
      snmpCredential: known?.snmpCredential ?? null,
      credentials: known?.credentials ?? {},
      hostKey: known?.hostKey ?? null,
      shownHostKey: known?.shownHostKey ?? null,
      armed: known?.armed ?? null,
      fetchesFrom: known?.fetchesFrom ?? [],
      told: known?.told ?? null,
      shows: showsNow(known, radioOf(told['hears'])),
      approved: known?.approved ?? null,
      upSince: known?.upSince ?? null,
      members: known?.members ?? [],
      outlets: known?.outlets ?? [],
      parent: parent.id,
      onParent: {
        port,
        link,
        powered: told['powered'] === 'yes',
        present: told['present'] === undefined || told['present'] === told['presentWhen'],
      },
      firmwareNote: merged.firmware !== null ? null : `${parent.name} does not tell it.${how ? ` To find out: ${how}.` : ''}`,
      believedBy: { ...known?.believedBy, ...belief.by },
      flags: verdict.flags.map((f) => ({ ...f, at: since(known, f.flag, f.other, at) })),
      lastSeen: at,
    });
    const found = await this.#write(row, known, belief, [{ probe, raw: { ...told }, parsed: { ...told } }], parent.address, at);
    return { ...found, recognised: family !== null, flags: row.flags.map((f) => `${f.flag}: ${f.detail}`) };
  }

  #row(
    id: string,
    known: DeviceRow | null,
    merged: Record<(typeof believedFields)[number], string | null>,
    now: Omit<
      DeviceRow,
      | 'id'
      | 'model'
      | 'hardwareRevision'
      | 'serial'
      | 'mac'
      | 'firmware'
      | 'bootLoader'
      | 'firstSeen'
      | 'byHand'
      | 'tags'
      | 'note'
      | 'retired'
      | 'feedByHand'
      | 'uplinkByHand'
    >,
  ): DeviceRow {
    const { model, hardwareRevision, serial, mac, firmware, bootLoader } = merged;
    const row: DeviceRow = {
      ...now,
      id,
      model,
      hardwareRevision,
      serial,
      mac,
      firmware,
      bootLoader,
      firstSeen: known?.firstSeen ?? now.lastSeen,
      byHand: known?.byHand ?? [],
      tags: known?.tags ?? [],
      note: known?.note ?? '',
      retired: known?.retired ?? null,
      feedByHand: known?.feedByHand ?? null,
      uplinkByHand: known?.uplinkByHand ?? null,
    };
    // What a person set, no probe changes.
    for (const field of row.byHand)
      if (known && field in known) (row as unknown as Record<string, unknown>)[field] = known[field as keyof DeviceRow];
    return row;
  }

  async #anotherAddress(known: DeviceRow, address: string): Promise<void> {
    if (known.address === address || known.addresses.includes(address)) return;
    known.addresses = [...known.addresses, address];
    await this.context.db.write(async (em) => em.nativeUpdate(DeviceEntity, { id: known.id }, { addresses: known.addresses }));
  }

  async #write(
    row: DeviceRow,
    known: DeviceRow | null,
    belief: Belief,
    seen: readonly Seen[],
    address: string,
    at: number,
    more?: (em: EntityManager) => Promise<void>,
  ): Promise<Omit<Found, 'recognised' | 'flags'>> {
    const differences = known
      ? compared.flatMap(([key, word]) => {
          const [before, after] = [known[key] || null, row[key] || null];
          return before === after
            ? []
            : [{ key, field: word, before, after, probe: belief.by[key as keyof Belief['by']] ?? seen[0]?.probe ?? 'discovery' }];
        })
      : [];
    this.rows.set(row.id, row);
    this.seen.add(row.id);
    this.#index.seen(row.id, row.name, identityOf(row));
    await this.context.db.write(async (em) => {
      // What others wrote since the discovery began stays: only what was learnt just now is written.
      const [now] = known ? ((await em.find(DeviceEntity, { id: row.id }, { disableIdentityMap: true })) as unknown as DeviceRow[]) : [];
      if (known && now) {
        const learnt = learntOf(known, row, now);
        if (Object.keys(learnt).length > 0) await em.nativeUpdate(DeviceEntity, { id: row.id }, learnt as never);
        this.rows.set(row.id, { ...now, ...learnt });
      } else await em.insert(DeviceEntity, row as never);
      const history = known
        ? differences
            .filter((d) => now === undefined || now[d.key] !== d.after)
            .map(({ key: _, ...d }) => d)
            .map((d) => ({ ...d, device: row.id, at }))
        : [{ device: row.id, at, field: 'first seen', before: null, after: row.firmware, probe: seen[0]?.probe ?? 'discovery' }];
      if (history.length > 0) await em.insertMany(HistoryEntity, history as never);
      for (const one of seen) await this.#observe(em, row.id, one, address, at);
      await more?.(em);
    });
    const shown = (key: string, value: string | null): string =>
      key === 'parent' && value !== null ? (this.rows.get(value)?.name ?? value) : (value ?? 'not known');
    return {
      device: row.id,
      name: row.name,
      address: row.address === '' ? null : row.address,
      kind: row.kind as Kind,
      what: !known ? 'new' : known.address !== row.address ? 'moved' : differences.length > 0 ? 'changed' : 'same',
      detail: !known
        ? [row.maker, row.model, row.firmware].filter(Boolean).join(' ') || 'answers, and tells neither model nor version'
        : differences.map((d) => `${d.field} ${shown(d.field, d.before)} → ${shown(d.field, d.after)}`).join(', '),
    };
  }

  async #observe(em: EntityManager, device: string, one: Seen, address: string, at: number): Promise<void> {
    const steady = Object.entries(one.raw).filter(([key]) => !volatile.test(key));
    const digest = digestOf(JSON.stringify([address, steady, one.parsed]));
    const key = `${device}|${one.probe}`;
    const latest = this.#digests.get(key);
    const { raw, parsed, probe } = one;
    if (latest?.digest === digest) {
      await em
        .getConnection()
        .execute('update observation set last_at = ?, times = times + 1 where id = ?', [at, latest.id], 'run', em.getTransactionContext());
      return;
    }
    const id = (await em.insert(ObservationEntity, {
      device,
      probe,
      address,
      at,
      lastAt: at,
      times: 1,
      digest,
      raw,
      parsed,
    } as never)) as unknown as number;
    this.#digests.set(key, { id, digest });
    // Tables of neighbours change all the time: of those only the last is kept.
    const keep = probe.endsWith('around it') ? 1 : keptObservations;
    await em
      .getConnection()
      .execute(
        'delete from observation where device = ? and probe = ? and id <= (select id from observation where device = ? and probe = ? order by id desc limit 1 offset ?)',
        [device, probe, device, probe, keep],
        'run',
        em.getTransactionContext(),
      );
  }
}

/**
 * What a discovery learnt of a device, field by field, to be laid over what is written of it now.
 * @param before as it was when the discovery began
 * @param after as the discovery would have it
 * @param now as it is written now
 */
export function learntOf(before: DeviceRow, after: DeviceRow, now: DeviceRow): Partial<DeviceRow> {
  const learnt: Record<string, unknown> = {};
  const differs = (a: unknown, b: unknown): boolean => JSON.stringify(a ?? null) !== JSON.stringify(b ?? null);
  for (const key of Object.keys(after) as (keyof DeviceRow)[]) {
    if (notLearnt.has(key) || now.byHand.includes(key) || !differs(before[key], after[key])) continue;
    if (key === 'lastSeen') learnt[key] = Math.max(now.lastSeen, after.lastSeen);
    // Only that it restarted is learnt, and only of what it was armed with when the discovery began.
    else if (key === 'armed') {
      if (after.armed === null && now.armed?.at === before.armed?.at) learnt[key] = null;
    } else if (key === 'credentials' || key === 'believedBy') learnt[key] = { ...now[key], ...changesOf(before[key], after[key]) };
    // Pinned meanwhile by somebody else: the first key stays.
    else if (key === 'hostKey' && now.hostKey !== null) continue;
    else learnt[key] = after[key];
  }
  return learnt;
}

/** What a device takes at its next restart. One that restarted since has taken it, or has not: either way it is armed no more. */
export function stillArmed(known: Pick<DeviceRow, 'armed'> | null, upSince: number | null, firmware: string | null): DeviceRow['armed'] {
  const armed = known?.armed ?? null;
  if (armed === null) return null;
  const hasRestarted = upSince !== null && upSince > armed.at;
  return hasRestarted || firmware === armed.version ? null : armed;
}

/** What a device shows now, over what it showed before; null while that is nothing. */
function showsNow(known: DeviceRow | null, now: Shows): Shows | null {
  const shows = { ...known?.shows, ...now };
  return Object.keys(shows).length === 0 ? null : shows;
}

/** Whom an access point hears, as what manages it lists them with blanks between; not told when it is not said. */
const radioOf = (hears: string | undefined): Shows =>
  hears === undefined ? {} : { radio: hears.split(/[\s,]+/).filter((one) => one !== '' && one !== '-') };

/** Fields that persons and runs write, and no discovery. */
const notLearnt: ReadonlySet<keyof DeviceRow> = new Set([
  'id',
  'firstSeen',
  'byHand',
  'retired',
  'tags',
  'note',
  'feedByHand',
  'uplinkByHand',
  'fetchesFrom',
  'told',
]);

const changesOf = (before: Readonly<Record<string, string>>, after: Readonly<Record<string, string>>): Record<string, string> =>
  Object.fromEntries(Object.entries(after).filter(([key, value]) => before[key] !== value));

function identityOf(row: DeviceRow): KnownIdentity {
  const displaced = row.flags.some((f) => f.flag === 'displaced');
  return {
    id: row.id,
    name: row.name,
    maker: row.maker,
    serial: row.serial,
    memberSerials: row.members.flatMap((m) => m.serial ?? []),
    mac: row.mac,
    engineId: row.engineId,
    // Another device answers at its address now.
    address: displaced || row.address === '' ? null : row.address,
    addresses: displaced ? [] : row.addresses,
  };
}

/** What is not told this time stays as it was believed. */
function merge(belief: Belief, known: DeviceRow | null): Record<(typeof believedFields)[number], string | null> {
  return Object.fromEntries(believedFields.map((f) => [f, belief.values[f] ?? known?.[f] ?? null])) as Record<
    (typeof believedFields)[number],
    string | null
  >;
}

function since(known: DeviceRow | null, flag: string, other: string | null, at: number): number {
  return known?.flags.find((f) => f.flag === flag && f.other === other)?.at ?? at;
}

function firmwareNote(reading: Reading, how: string | undefined): string {
  const why = reading.troubles[0]
    ? `${reading.troubles[0].probe}: ${reading.troubles[0].detail}.`
    : reading.recognised
      ? 'Nothing that it answers tells it.'
      : 'No family fits it, and the standards that it answers do not tell it.';
  return `${why}${how ? ` To find out: ${how}.` : ''}`;
}

/** The variant of a model of which its family knows only one; a twin has to be told by the device itself. */
function soleVariant(family: Family | null | undefined, model: string | null): string | null {
  return knownHardware(family?.models ?? [], { family: null, model, hardwareRevision: null, variant: null }).variant;
}
