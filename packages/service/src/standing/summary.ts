import {
  compareVersions,
  readVersion,
  standings,
  VersionUnreadable,
  type Pin,
  type PinView,
  type Standing,
  type StandingSummary,
  type VersionScheme,
} from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { PinEntity, type PinRow } from '../data/entities.js';
import { isDue, type DeviceFilter, type Devices, type KnownDevice } from '../devices/devices.js';

type Counts = Record<Standing, number>;
const noCounts = (): Counts => Object.fromEntries(standings.map((s) => [s, 0])) as Counts;

interface VersionGroup {
  version: string | null;
  family: string | null;
  devices: number;
  counts: Counts;
  targetOf: number;
  withdrawn: boolean;
}

const mostNames = 8;

/** The fleet by family and version, what the image store lacks, and which pins want to be asked again. */
export class StandingService {
  constructor(
    private readonly context: Context,
    private readonly devices: Devices,
  ) {}

  async summary(filter: DeviceFilter): Promise<StandingSummary> {
    const meant = await this.devices.list(filter);
    const counts = noCounts();
    const byFamily = new Map<string | null, KnownDevice[]>();
    const lacking = new Map<string, { wanted: string; gap: string; devices: number; names: string[] }>();
    for (const known of meant) {
      const { row, standing } = known;
      counts[standing.standing]++;
      const list = byFamily.get(row.family);
      if (list) list.push(known);
      else byFamily.set(row.family, [known]);
      if (standing.gap?.wanted) {
        const gap = lacking.get(standing.gap.wanted) ?? { wanted: standing.gap.wanted, gap: standing.gap.text, devices: 0, names: [] };
        gap.devices++;
        if (gap.names.length < mostNames) gap.names.push(row.name);
        lacking.set(standing.gap.wanted, gap);
      }
    }
    const withdrawn = new Set(
      (await this.devices.book()).images
        .filter((i) => i.withdrawn !== null && i.component === 'system')
        .map((i) => `${i.family}|${i.version}`),
    );
    return {
      devices: meant.length,
      counts,
      families: [...byFamily]
        .map(([family, members]) => this.#family(family, members, withdrawn))
        .sort((a, b) => b.devices - a.devices || a.title.localeCompare(b.title)),
      lacking: [...lacking.values()].sort((a, b) => b.devices - a.devices),
      pinsDue: (await this.pins()).filter((p) => p.due),
    };
  }

  #family(family: string | null, members: readonly KnownDevice[], withdrawn: ReadonlySet<string>): StandingSummary['families'][number] {
    const known = family === null ? undefined : this.context.families.get(family);
    const counts = noCounts();
    const groups = new Map<string, VersionGroup>();
    const group = (of: string | null, version: string | null): VersionGroup => {
      const canonical = this.#canonical(of, version);
      const key = `${of}|${canonical}`;
      let found = groups.get(key);
      if (!found) {
        found = { version: canonical, family: of, devices: 0, counts: noCounts(), targetOf: 0, withdrawn: withdrawn.has(key) };
        groups.set(key, found);
      }
      return found;
    };
    for (const { row, standing, target } of members) {
      counts[standing.standing]++;
      const own = group(family, row.firmware);
      own.devices++;
      own.counts[standing.standing]++;
      if (target) group(target.family, target.version).targetOf++;
    }
    return {
      family,
      title: known?.title ?? 'No family fits',
      devices: members.length,
      counts,
      versions: [...groups.values()].sort((a, b) => this.#order(family, a, b)),
    };
  }

  #canonical(family: string | null, version: string | null): string | null {
    const scheme = family === null ? undefined : this.context.families.get(family)?.versions;
    return version === null ? null : (scheme && canonicalOf(scheme, version)) || version;
  }

  /** What is not known first, then oldest to newest, then what devices cross over to. */
  #order(family: string | null, a: VersionGroup, b: VersionGroup): number {
    if (a.version === null || b.version === null) return a.version === b.version ? 0 : a.version === null ? -1 : 1;
    if (a.family !== b.family) return a.family === family ? -1 : 1;
    const scheme = a.family === null ? undefined : this.context.families.get(a.family)?.versions;
    try {
      return scheme ? compareVersions(scheme, a.version, b.version) : a.version.localeCompare(b.version);
    } catch (error) {
      if (error instanceof VersionUnreadable) return a.version.localeCompare(b.version);
      throw error;
    }
  }

  async pins(): Promise<PinView[]> {
    const rows = await this.context.db.find(PinEntity, {}, { orderBy: { askAgain: 'asc' } });
    const names = new Map((await this.devices.all()).map((d) => [d.row.id, d.row.name]));
    return rows.map((row) => this.pinView(row, names.get(row.device) ?? row.device));
  }

  pinView(row: PinRow, name: string): PinView {
    const pin: Pin = row;
    const { device, version, reason, askAgain, setBy } = row;
    return { device, name, version, reason, askAgain, due: isDue(pin), setBy, setAt: rfc3339(row.setAt) };
  }
}

function canonicalOf(scheme: VersionScheme, text: string): string | null {
  try {
    return readVersion(scheme, text).canonical;
  } catch (error) {
    if (error instanceof VersionUnreadable) return null;
    throw error;
  }
}
