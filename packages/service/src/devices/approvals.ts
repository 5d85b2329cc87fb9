import { isApproved, type ApprovalResult, type HostToApprove, type WaitingHost } from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { DeviceEntity, HistoryEntity, type DeviceRow } from '../data/entities.js';
import { hostOf } from '../touch/sparing.js';

/** Rows in one statement: more of them cost no less. */
const manyAtOnce = 50;

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
  if (row.address === '') return 'it has no address of its own: there is no host to approve';
  if (row.retired !== null) return 'it was retired';
  if (row.shownHostKey !== null) return `it shows another host key than the pinned one; accept that first, knowingly`;
  if (row.hostKey !== host.hostKey) return `it shows host key ${row.hostKey ?? 'none'} now, not ${host.hostKey ?? 'none'}`;
  if (row.address !== host.address) return `it is at ${row.address || 'no address'} now, not at ${host.address}`;
  if (row.family !== host.family) return `it is recognised as ${row.family ?? 'nothing'} now, not as ${host.family ?? 'nothing'}`;
  return null;
}
