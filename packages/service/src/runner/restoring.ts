import { CauseError, compareConfigurations, sameVersion, type Claim, type ConfigurationDifference } from '@barrow/core';
import type { Family } from '@barrow/families';
import type { Context } from '../context.js';
import { DeviceEntity, type BackupRow, type DeviceRow } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import type { MapService } from '../map/map.js';
import { hideSecrets } from '../touch/secrets.js';
import { putSettings } from '../touch/settings.js';
import { Touch } from '../touch/touch.js';
import type { Backups } from './backups.js';
import type { Holdings } from './holdings.js';

/** What became of settings that were to be put back. */
export interface Restored {
  readonly device: DeviceRow;
  /** From what the device has now to what was saved; after it was put back, what still is otherwise. */
  readonly difference: ConfigurationDifference;
  /** What the device did not take, in its words. */
  readonly refused: readonly string[];
  /** The backup of what it had before; null when nothing was changed. */
  readonly before: string | null;
}

/** Puts saved settings back into a device, by a person's word, and looks whether they are in use then. */
export class Restoring {
  constructor(
    private readonly parts: {
      readonly context: Context;
      readonly backups: Backups;
      readonly holdings: Holdings;
      readonly map: MapService;
      readonly rolloutOf: (device: string) => string | null;
    },
  ) {}

  /**
   * @param look only tells the difference; nothing is changed
   * @throws Refusal, or CauseError when the device does not answer as it should
   */
  async restore(asked: string, look: boolean): Promise<Restored> {
    const { context, backups } = this.parts;
    const { row, text } = await backups.text(asked);
    const device = await context.db.findOne(DeviceEntity, { id: row.device });
    if (!device) throw notFound('device', row.device, 'It was removed; its backups are kept.');
    const family = context.families.get(device.family ?? '');
    if (!family?.procedures.restore || !family.procedures.configuration || !family.procedures.record)
      throw new Refusal(
        422,
        'family-unknown',
        'Nothing was put back',
        `${family ? `The family ${family.family} does not say how` : 'No family is known'}: Barrow cannot give ${device.name} its settings.`,
        'A family file with the procedures `record`, `configuration` and `restore` would teach it.',
      );
    const release = look ? null : await this.take(device, 'put back');
    try {
      const { now, difference } = await this.look(device, family, row, text);
      const hidden = (d: ConfigurationDifference): ConfigurationDifference => ({ ...d, lines: d.lines.map((l) => hideSecrets(l, family)) });
      if (look || difference.same) return { device, difference: hidden(difference), refused: [], before: null };
      // What it has now is kept first: this can be undone in the same way.
      const before = await backups.keep(device.id, now, row.firmware, null);
      const touch = new Touch(context, device, family, { factory: true });
      const refused = await putSettings(touch, family, text).finally(() => touch.close());
      const left = (await this.look(device, family, row, text, false)).difference;
      return { device, difference: hidden(left), refused, before: before.id };
    } finally {
      release?.();
    }
  }

  /** Takes the device, as a rollout would, so that nobody else writes to it or takes down what it hangs on. @throws Refusal */
  async take(device: DeviceRow, what: string): Promise<() => void> {
    const { holdings, map, rolloutOf } = this.parts;
    const rollout = rolloutOf(device.id);
    const under = (await map.guards()).under.get(device.id) ?? [device.id];
    const claims: Claim[] = [
      { key: `device:${device.id}`, mode: 'exclusive' },
      ...under.map((id): Claim => ({ key: `up:${id}`, mode: 'shared' })),
    ];
    const holder = { rollout: `restore:${device.id}`, run: `${device.name} (its settings are put back)` };
    const lacks = holdings.ledger.lacks(claims, holder);
    if (rollout !== null || lacks !== null)
      throw new Refusal(
        409,
        'device-busy',
        `Nothing was ${what}`,
        `${device.name} is ${rollout === null ? `held by ${holdings.ledger.holdersOf(lacks!.key).map(holdings.nameOf).join(', ')}` : `in the rollout ${rollout}`}.`,
        'Wait until that has ended, or leave the device out of it, and say it again.',
      );
    holdings.ledger.hold(holder, claims);
    return () => {
      holdings.ledger.release(holder);
      holdings.letGo();
    };
  }

  /** What it has now against what was saved of it. @throws Refusal when it is another device, or runs another version */
  async look(
    device: DeviceRow,
    family: Family,
    saved: BackupRow,
    text: string,
    factory = true,
    title = 'Nothing was put back',
  ): Promise<{ now: string; difference: ConfigurationDifference }> {
    const touch = new Touch(this.parts.context, device, family, { factory });
    try {
      const { gives } = await touch.run('record');
      if (device.serial !== null && gives['serial'] !== device.serial)
        throw new CauseError(
          'another-device',
          `${device.name} has serial ${device.serial}, ${device.address} answers with ${gives['serial'] ?? 'none'}`,
        );
      const runs = gives['firmware'] ?? null;
      if (saved.firmware === null || runs === null || !sameVersion(family.versions, saved.firmware, runs))
        throw new Refusal(
          409,
          'backup-of-another-version',
          title,
          `The backup was written by ${saved.firmware ?? 'a version that was not told'}, and ${device.name} runs ${runs ?? 'what it does not tell'}: another version may read it otherwise.`,
          `Bring ${device.name} to ${saved.firmware ?? 'that version'} first, or enter the settings by hand: \`barrow backup show ${saved.id}\`.`,
        );
      const now = (await touch.run('configuration')).gives['text'] ?? '';
      return { now, difference: compareConfigurations(now, text, family.configuration ?? { ignoreLines: [] }) };
    } finally {
      touch.close();
    }
  }
}
