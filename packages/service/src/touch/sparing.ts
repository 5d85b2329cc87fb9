import { CauseError, isApproved, waitsForApproval, type Approval, type ShownHost } from '@barrow/core';
import type { Context } from '../context.js';
import { DeviceEntity, type CredentialRow, type DeviceFlag, type DeviceRow } from '../data/entities.js';

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
    await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: row.id }, { flags }));
    context.live.changed('devices', [row.id]);
  }
  throw new CauseError('awaiting-approval', awaitingDetail(host, names));
}
