import { CauseError, sameVersion } from '@barrow/core';
import { sshHostKey } from '@barrow/wire';
import { DeviceEntity, NetworkEntity } from '../../data/entities.js';
import { putSettings } from '../../touch/settings.js';
import type { Touch } from '../../touch/touch.js';
import type { Step, StepContext } from './step.js';

const keyLimitMs = 5000;
/** What a person answers who has set up the device by hand, or wants the backup restored all the same. */
const [done, restoreIt] = ['done', 'restore'];

/** Whether the image of this leg resets what Barrow has to set again. */
export const isReset = ({ leg }: Pick<StepContext, 'leg'>): boolean =>
  leg.resets?.some((what) => what === 'settings' || what === 'logins') === true;

/**
 * Reads the record of a device that its image may have reset. Barrow sends only the factory login until it saw the serial. Where that
 * login is refused, the reset may have spared the logins: a device that shows the pinned host key is the one. Else Barrow asks a
 * person, once for the whole leg.
 * @throws CauseError
 */
export async function recordAfterReset(step: StepContext): Promise<{ gives: Readonly<Record<string, string>>; byPerson: boolean }> {
  try {
    return { gives: (await step.once('record')).gives, byPerson: false };
  } catch (error) {
    if (!isRefused(error)) throw error;
    const shown = await shownKey(step);
    let byPerson = step.trail.get('return')?.facts['byPerson'] === true;
    if (!byPerson && (shown === null || shown !== step.device.hostKey)) {
      await step.askPerson(
        `The image ${step.leg.to} has reset ${step.device.name}, and the factory login is refused. Set its login again by hand, then answer "${done}".`,
        { fits: `^${done}$`, like: done, secret: false },
      );
      // Whoever set its login by hand has seen that it is the device.
      await pin(step, await shownKey(step));
      byPerson = true;
    }
    return { gives: (await (await step.login({ factory: false })).run('record')).gives, byPerson };
  }
}

const isRefused = (error: unknown): boolean =>
  error instanceof CauseError && ['login-refused', 'login-lost', 'no-credential'].includes(error.code);

/** The host key (RFC 4253 §7) that it shows before anything is sent; null when it shows none. */
async function shownKey({ context, device }: StepContext): Promise<string | null> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  if (!network || device.hostKey === null) return null;
  return sshHostKey(device.address, network.sshPort, keyLimitMs).catch(() => null);
}

/** Pins the host key of a device that was proven to be the one: it stays approved. */
async function pin({ context, device }: StepContext, hostKey: string | null): Promise<void> {
  if (hostKey === null || hostKey === device.hostKey) return;
  const approved = device.approved && { ...device.approved, hostKey };
  await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: device.id }, { hostKey, shownHostKey: null, approved }));
  Object.assign(device, { hostKey, approved });
}

/** The serial or the MAC address that was planned, and no other. @throws CauseError */
function needSame({ run, device }: StepContext, gives: Readonly<Record<string, string>>): void {
  const plain = (mac: string | null | undefined): string => (mac ?? '').toLowerCase().replaceAll(/[^0-9a-f]/g, '');
  const isSame = gives['serial'] === run.serial || (plain(device.mac) !== '' && plain(gives['mac']) === plain(device.mac));
  if (!isSame)
    throw new CauseError(
      'another-device',
      `planned was serial ${run.serial}, ${device.address} answers after the reset with ${gives['serial'] ?? 'none'}`,
    );
}

/**
 * Sets up a device that its image has reset, as the accepted risk says: logs in with the factory login, compares the serial,
 * restores the settings of the backup, and proves that our own login opens it. Barrow asks a person for what it cannot do itself.
 */
export const setUp: Step = async (step) => {
  const { family, leg } = step;
  const { gives } = await recordAfterReset(step);
  needSame(step, gives);
  // Whoever was let in by our own login before has nothing to be given back but settings.
  const touch = await entered(step);
  const refused = await givenSettings(step, touch);
  const hostKey = touch.shownHostKey;
  touch.close();
  await pin(step, hostKey);
  await proveOwnLogin(step);
  return { kind: 'done', facts: { reset: leg.resets?.join(', '), family: family.family, ...(refused.length > 0 ? { refused } : {}) } };
};

/** A session by the factory login, or by ours where that opens it. */
async function entered(step: StepContext): Promise<Touch> {
  const factory = await step.login();
  try {
    await factory.run('record');
    return factory;
  } catch (error) {
    if (!isRefused(error)) throw error;
    const own = await step.login({ factory: false });
    await own.run('record');
    return own;
  }
}

/** @returns the lines that the device refused */
async function givenSettings(step: StepContext, touch: Touch): Promise<string[]> {
  const { family, leg, device } = step;
  const ask = (why: string, fits: string, more: string): Promise<string> =>
    step.askPerson(`The image ${leg.to} has reset ${device.name}. ${why} Restore its settings by hand, then answer "${done}"${more}.`, {
      fits,
      like: done,
      secret: false,
    });
  if (!step.saves) return [];
  const kept = await step.backups.text(String(step.trail.get('backup')?.facts['backup']));
  if (!touch.can('restore')) {
    await ask(`Barrow has its backup ${kept.row.id}, and the family ${family.family} has no procedure that restores it.`, `^${done}$`, '');
    return [];
  }
  const wroteIt = kept.row.firmware ?? leg.from;
  if (family.configuration?.readsOlder !== true && !sameVersion(family.versions, wroteIt, leg.to)) {
    const answer = await ask(
      `Its backup was written by ${wroteIt}, and the family does not say whether ${leg.to} reads it.`,
      `^(${done}|${restoreIt})$`,
      `. To have Barrow restore that backup all the same, answer "${restoreIt}"`,
    );
    if (answer !== restoreIt) return [];
  }
  return putSettings(touch, family, kept.text);
}

/** @throws CauseError when it is not opened by our own login even after a person was asked */
async function proveOwnLogin(step: StepContext): Promise<void> {
  for (let asked = false; ; asked = true)
    try {
      await (await step.login({ factory: false })).run('record');
      return;
    } catch (error) {
      if (!isRefused(error) || asked) throw error;
      await step.askPerson(
        `${step.device.name} is set up again after its reset, and refuses the login of its network. Set that login on the device by hand, then answer "${done}".`,
        { fits: `^${done}$`, like: done, secret: false },
      );
    }
}
