import { CauseError } from '@barrow/core';
import type { Context } from '../context.js';
import { CredentialEntity, DeviceEntity, NetworkEntity, type CredentialRow, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { kindsOf } from './access.js';
import { choose, leftDetail } from './choose.js';
import { forgetRefusal, noteRefusal, refusals } from './refusals.js';
import { sparing } from './sparing.js';

/** By what a device is spoken to with a login. */
export type Door = 'ssh' | 'http' | 'snmp' | 'onvif';

/** What may be tried at a device, in its order. */
export interface Logins {
  readonly network: NetworkRow;
  /** The device as it is kept now; null when it is not kept yet. */
  readonly row: DeviceRow | null;
  readonly credentials: readonly CredentialRow[];
  /** What had worked was refused since. */
  readonly refusedHere: boolean;
  /** Fails with what was withheld, when none of them opened it; null when nothing was. */
  readonly wait: (() => Promise<never>) | null;
  /**
   * Keeps how a try ended, so that nobody tries what is refused until an account is locked.
   * @throws CauseError `credential-suspended` when others refuse it as well, at which it had worked
   */
  readonly refused: (credential: CredentialRow) => Promise<void>;
  readonly opened: (credential: CredentialRow) => Promise<void>;
}

/**
 * Chooses what to log in with: what worked last, then what the network of the device names, in its order. Passwords go only to
 * hosts that were approved; what was refused there lately is left alone, unless it is what had worked.
 * @throws CauseError when nothing may be tried
 */
export async function loginsOf(context: Context, device: DeviceRow, protocol: Door): Promise<Logins> {
  const { db } = context;
  const [network, all, row, before] = await Promise.all([
    db.keptOne(NetworkEntity, 'name', device.network),
    db.kept(CredentialEntity).then((all) => all.filter((c) => (kindsOf[protocol] as readonly string[]).includes(c.kind))),
    db.findOne(DeviceEntity, { id: device.id }),
    refusals(context, device.address),
  ]);
  if (!network) throw new CauseError('no-credential', `its network ${device.network} is no longer known`);
  const worked = (protocol === 'snmp' ? row?.snmpCredential : row?.credentials[protocol]) ?? null;
  const { may: tried, left } = choose(protocol, {
    all: new Map(all.map((c) => [c.id, c])),
    named: network.credentials,
    worked,
    // What had worked is tried again: a person may just have mended it.
    isRefused: (c) => c.id !== worked && before.some((r) => r.credential === c.id && r.at > c.createdAt),
  });
  if (tried.length === 0 && left.length > 0) throw new CauseError('login-refused', leftDetail(left.map((c) => c.name)));
  const door = protocol === 'ssh' || protocol === 'http' ? protocol : null;
  const doubted = door && tried[0] ? context.doubts.whyNot(tried[0].id) : null;
  if (doubted !== null) throw new CauseError('credential-suspended', doubted);
  // A community is no account; neither a user of SNMP v3 nor the token of a camera's login tells its word.
  const { may, wait } =
    row === null || protocol === 'snmp' || protocol === 'onvif' ? { may: tried, wait: null } : await sparing(context, row, protocol, tried);
  return {
    network,
    row,
    credentials: may,
    refusedHere: worked !== null && before.some((r) => r.credential === worked),
    wait,
    // Communities are not accounts: they lock nothing, and are not kept.
    refused: async (credential) => {
      if (credential.kind !== 'snmp-v2c') await noteRefusal(context, credential, device.address);
      if (!door || !row) return;
      // Where it never worked it says of itself what others have said of it.
      const byMany =
        credential.id === worked ? await context.doubts.refused(context, credential, door, row) : context.doubts.standing(credential.id);
      if (byMany !== null) throw new CauseError('credential-suspended', byMany);
    },
    async opened(credential) {
      if (door) context.doubts.forget(credential.id);
      if (before.some((r) => r.credential === credential.id)) await forgetRefusal(context, credential, device.address);
      // What opens the agent for one question need not open it for another: that is for discovery to tell.
      if (row === null || protocol === 'snmp' || row.credentials[protocol] === credential.id) return;
      await db.writeSurely(async (em) =>
        em.nativeUpdate(DeviceEntity, { id: device.id }, { credentials: { ...row.credentials, [protocol]: credential.id } }),
      );
      row.credentials = { ...row.credentials, [protocol]: credential.id };
    },
  };
}
