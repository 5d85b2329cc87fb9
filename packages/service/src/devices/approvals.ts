import {
  CauseError,
  isApproved,
  waitsForApproval,
  type Approval,
  type ApprovalResult,
  type HostToApprove,
  type ShownHost,
  type WaitingHost,
} from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { DeviceEntity, HistoryEntity, type CredentialRow, type DeviceFlag, type DeviceRow } from '../data/entities.js';

/** Rows in one statement: more of them cost no less. */
const manyAtOnce = 50;

/** The credentials that a host may get, and those that wait for its approval: a second word is told in full, whatever came before it. */
export function usable(
  credentials: readonly CredentialRow[],
  approval: Approval | null,
  protocol: 'ssh' | 'http',
  host: ShownHost,
): { may: CredentialRow[]; withheld: CredentialRow[] } {
  const isOpen = isApproved(approval, protocol, host);
  const [may, withheld]: [CredentialRow[], CredentialRow[]] = [[], []];
  for (const one of credentials) (isOpen || !(waitsForApproval(one.kind) || one.raise !== null) ? may : withheld).push(one);
  return { may, withheld };
}

/** What is said of a host that a password was kept from. */
export const awaitingDetail = (host: ShownHost, withheld: readonly string[]): string =>
  `${withheld.join(', ')} was not sent to ${host.address}: nobody has approved it${host.family === null ? '' : ` as ${host.family}`}${host.hostKey === null ? '' : ` with host key ${host.hostKey}`}`;

export function awaitingFlag(known: DeviceRow | null, host: ShownHost, withheld: readonly string[], at: number): DeviceFlag {
  const before = known?.flags.find((f) => f.flag === 'awaiting-approval');
  return { flag: 'awaiting-approval', other: null, detail: awaitingDetail(host, withheld), at: before?.at ?? at };
}

/** The host that a device is at, as far as is known of it. */
export const hostOf = ({ address, hostKey, family }: DeviceRow): ShownHost => ({ address, hostKey, family });

export interface Spared {
  readonly may: readonly CredentialRow[];
  /** Marks the device as waiting, and fails with that; null when nothing was withheld. */
  readonly wait: (() => Promise<never>) | null;
}

/**
 * Leaves those that may be sent to a device.
 * @throws CauseError `awaiting-approval` when all that there are wait
 */
export async function sparing(
  context: Context,
  row: DeviceRow,
  protocol: 'ssh' | 'http',
  credentials: readonly CredentialRow[],
): Promise<Spared> {
  const host = hostOf(row);
  const { may, withheld } = usable(credentials, row.approved, protocol, host);
  if (withheld.length === 0) return { may, wait: null };
  const wait = (): Promise<never> =>
    markWaiting(
      context,
      row,
      withheld.map((c) => c.name),
    );
  return may.length === 0 ? await wait() : { may, wait };
}

async function markWaiting(context: Context, row: DeviceRow, names: readonly string[]): Promise<never> {
  const host = hostOf(row);
  const flag = awaitingFlag(row, host, names, Date.now());
  if (!row.flags.some((f) => f.flag === flag.flag && f.detail === flag.detail)) {
    const flags = [...row.flags.filter((f) => f.flag !== flag.flag), flag];
    await context.db.write(async (em) => em.nativeUpdate(DeviceEntity, { id: row.id }, { flags }));
    context.live.changed('devices', [row.id]);
  }
  throw new CauseError('awaiting-approval', awaitingDetail(host, names));
}

/** Hosts that get no password until a person has looked at what they show. */
export class Approvals {
  constructor(private readonly context: Context) {}

  async waiting(): Promise<WaitingHost[]> {
    const rows = await this.context.db.find(DeviceEntity, {}, { orderBy: { site: 'asc', name: 'asc' } });
    return rows.flatMap((row) => {
      const flag = row.flags.find((f) => f.flag === 'awaiting-approval');
      // A discovery that began before the approval may have left the mark.
      const isOpen = (['ssh', 'http'] as const).every((p) => isApproved(row.approved, p, hostOf(row)));
      if (!flag || isOpen) return [];
      const { id, name, site, network, familyEvidence } = row;
      return [{ device: id, name, site, network, familyEvidence, ...hostOf(row), detail: flag.detail, since: rfc3339(flag.at) }];
    });
  }

  /** Approves hosts as they were shown to who approves them; one that shows itself otherwise now is left as it is. */
  async approve(hosts: readonly HostToApprove[], by: string): Promise<ApprovalResult> {
    const { db, live } = this.context;
    const rows = new Map((await db.find(DeviceEntity, { id: { $in: hosts.map((h) => h.device) } })).map((r) => [r.id, r]));
    const at = Date.now();
    const left: ApprovalResult['left'] = [];
    const approved: DeviceRow[] = [];
    for (const host of hosts) {
      const row = rows.get(host.device);
      const why = row === undefined ? 'it is not known any longer' : whyNot(row, host);
      if (why !== null) left.push({ device: row?.name ?? host.device, why });
      else approved.push(row!);
    }
    await db.write(async (em) => {
      for (let from = 0; from < approved.length; from += manyAtOnce) {
        const some = approved.slice(from, from + manyAtOnce);
        for (const row of some)
          await em.nativeUpdate(
            DeviceEntity,
            { id: row.id },
            { approved: { ...hostOf(row), at, by }, flags: row.flags.filter((f) => f.flag !== 'awaiting-approval') },
          );
        await em.insertMany(
          HistoryEntity,
          some.map((row) => ({
            device: row.id,
            at,
            field: 'approved for passwords',
            before: row.approved?.hostKey ?? null,
            after: row.hostKey ?? `${row.address}, ${row.family ?? 'no family'}`,
            probe: `approved by ${by}`,
          })) as never,
        );
      }
    });
    if (approved.length > 0)
      live.changed(
        'devices',
        approved.map((r) => r.id),
      );
    return { approved: approved.map((r) => r.name), left };
  }
}

function whyNot(row: DeviceRow, host: HostToApprove): string | null {
  if (row.shownHostKey !== null) return `it shows another host key than the pinned one; accept that first, knowingly`;
  if (row.hostKey !== host.hostKey) return `it shows host key ${row.hostKey ?? 'none'} now, not ${host.hostKey ?? 'none'}`;
  if (row.address !== host.address) return `it is at ${row.address || 'no address'} now, not at ${host.address}`;
  if (row.family !== host.family) return `it is recognised as ${row.family ?? 'nothing'} now, not as ${host.family ?? 'nothing'}`;
  return null;
}
