import { CauseError, compareConfigurations, safeText, type ConfigurationDifference } from '@barrow/core';
import type { Family } from '@barrow/families';
import { ownNow, ownPause } from '@barrow/wire';
import type { Context } from '../context.js';
import { DeviceEntity, HistoryEntity, type BackupRow, type DeviceRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import { signOfLife } from '../touch/alive.js';
import { hideSecrets } from '../touch/secrets.js';
import { putSettings } from '../touch/settings.js';
import { once, Touch } from '../touch/touch.js';
import type { Backups } from './backups.js';
import type { Restoring } from './restoring.js';

/** What became of a swap, or would become of it. */
export interface Swapped {
  readonly device: DeviceRow;
  readonly spare: DeviceRow;
  readonly backup: BackupRow;
  /** From what the spare has to what was saved of the device; after it was done, what still is otherwise. */
  readonly difference: ConfigurationDifference;
  readonly refused: readonly string[];
  /** The backup of what the spare had before; null when nothing was changed. */
  readonly before: string | null;
  readonly done: boolean;
}

/** However fast a demo device's time runs, the machine that waits for it has its own pace. */
const shortestLimit = 15_000;
const [askMs, lookMs] = [500, 200];

/** What a box is, whatever part it plays. */
const hardware = [
  'serial',
  'mac',
  'engineId',
  'hostKey',
  'shownHostKey',
  'hardwareRevision',
  'firmware',
  'bootLoader',
  'upSince',
  'addresses',
  'members',
  'believedBy',
  'armed',
  'shows',
] as const;
/** What of it stands in the history of a device. */
const told = {
  serial: 'serial',
  mac: 'MAC',
  firmware: 'firmware',
  bootLoader: 'boot loader',
  hardwareRevision: 'hardware revision',
} as const;

/** Has a spare take the place of a device: its settings, its address, its name, and all that is known of the part it plays. */
export class Swapping {
  constructor(
    private readonly parts: {
      readonly context: Context;
      readonly backups: Backups;
      readonly restoring: Restoring;
      /** Ends when the service stops. */
      readonly signal: AbortSignal;
    },
  ) {}

  /**
   * @param asked the backup whose settings it gets; null: the newest of the device
   * @param look only tells what would be; nothing is changed
   * @throws Refusal, or CauseError when one of them does not answer as it should
   */
  async swap(device: DeviceRow, spare: DeviceRow, asked: string | null, look: boolean, by: string): Promise<Swapped> {
    const { context, backups, restoring } = this.parts;
    const family = this.#fit(device, spare);
    const id = asked ?? (await backups.list(device.id))[0]?.id;
    if (id === undefined)
      throw refused(
        'backup-missing',
        `Nothing was saved of ${device.name}: nobody knows its settings.`,
        'Give the spare its settings by hand.',
      );
    const { row: backup, text } = await backups.text(id);
    if (backup.device !== device.id)
      throw refused(
        'backup-of-another',
        `Backup ${backup.id} is not of ${device.name}.`,
        `\`barrow backup list --device ${device.name}\` shows which are.`,
      );
    const placed = await this.#placed(device, spare, family);
    const at = placed ? { ...spare, address: device.address, network: device.network } : spare;
    const { now, difference } = await restoring.look(at, family, backup, text, true, 'Nothing was swapped');
    const hidden = (d: ConfigurationDifference): ConfigurationDifference => ({ ...d, lines: d.lines.map((l) => hideSecrets(l, family)) });
    const found = { device, spare, backup };
    if (look) return { ...found, difference: hidden(difference), refused: [], before: null, done: false };
    const release: (() => void)[] = [];
    try {
      for (const one of [device, spare]) release.push(await restoring.take(one, 'swapped'));
      const before = difference.same ? null : await backups.keep(spare.id, now, backup.firmware, null);
      const words = difference.same ? [] : await this.#give(at, family, text);
      if (!placed) await this.#move(device, spare, family);
      const there = { ...spare, address: device.address, network: device.network };
      const touch = new Touch(context, there, family, { factory: true });
      const left = await touch
        .run('configuration')
        .then(({ gives }) => compareConfigurations(gives['text'] ?? '', text, family.configuration ?? { ignoreLines: [] }))
        .finally(() => touch.close());
      await this.#exchange(device, spare, by);
      return { ...found, difference: hidden(left), refused: words, before: before?.id ?? null, done: true };
    } finally {
      for (const letGo of release) letGo();
    }
  }

  async #give(at: DeviceRow, family: Family, text: string): Promise<string[]> {
    const touch = new Touch(this.parts.context, at, family, { factory: true });
    return putSettings(touch, family, text).finally(() => touch.close());
  }

  /** Whether one can stand for the other at all. @throws Refusal */
  #fit(device: DeviceRow, spare: DeviceRow): Family {
    const family = this.parts.context.families.get(device.family ?? '');
    // Of who was not let in, only what anybody is told is known.
    const isShut = spare.flags.some((f) => f.flag === 'awaiting-approval');
    const told = (value: string | null): string => (value === '' ? 'none' : (value ?? 'not known'));
    const unlike = (['family', 'model', 'variant'] as const).find((key) => device[key] !== spare[key]);
    const why =
      device.id === spare.id
        ? 'they are one device'
        : unlike !== undefined
          ? `its ${unlike} is ${told(spare[unlike])}, that of ${device.name} ${told(device[unlike])}`
          : spare.serial === null || spare.address === ''
            ? 'its serial and its address have to be known'
            : device.address === ''
              ? `${device.name} has no address that it could take`
              : null;
    if (why !== null)
      throw refused(
        'swap-unfit',
        `${spare.name} cannot take the place of ${device.name}: ${why}.`,
        isShut
          ? `Nobody has approved it yet: \`barrow device approve ${spare.name}\`, then \`barrow discover ${spare.network}\`.`
          : unlike !== undefined && spare[unlike] === null
            ? `It was not read whole: \`barrow discover ${spare.network}\` does, and tells what is in the way.`
            : 'Name a spare of the same family and model that was discovered.',
      );
    for (const needed of ['record', 'configuration', 'restore', 'reboot'] as const)
      if (!family?.procedures[needed])
        throw refused(
          'family-unknown',
          `${family ? `The family ${family.family} has no procedure ${needed}` : 'No family is known'}: Barrow cannot give ${spare.name} these settings.`,
          'Give the spare its settings by hand: `barrow backup show BACKUP` has them.',
        );
    return family!;
  }

  /** Whether the spare is in the place of the device already; nobody is put beside a device that lives. @throws Refusal */
  async #placed(device: DeviceRow, spare: DeviceRow, family: Family): Promise<boolean> {
    const { context } = this.parts;
    if (!(await signOfLife(context, device, family, askMs, 2)).answers) return false;
    const serial = await this.#serialAt({ ...spare, address: device.address, network: device.network }, family);
    if (serial === spare.serial) return true;
    throw refused(
      'swap-lives',
      `${device.name} answers at ${device.address}${serial === null ? '' : `, with serial ${serial}`}: two would have one address.`,
      'Take it off the network first; then say it again.',
    );
  }

  async #serialAt(at: DeviceRow, family: Family): Promise<string | null> {
    try {
      return (await once(this.parts.context, at, family, 'record', { factory: true, signal: this.parts.signal })).gives['serial'] ?? null;
    } catch (error) {
      if (error instanceof CauseError) return null;
      throw error;
    }
  }

  /** It takes its new address at a restart, and is waited for there. @throws CauseError */
  async #move(device: DeviceRow, spare: DeviceRow, family: Family): Promise<void> {
    const { context, signal } = this.parts;
    const there = { ...spare, address: device.address, network: device.network };
    if (spare.address !== device.address) await once(context, spare, family, 'reboot', { factory: true, signal });
    const within = Math.max(0, ...family.ways.map((w) => w.returns.within)) / context.options.timeScale;
    const until = ownNow() + Math.max(shortestLimit, within);
    for (;;) {
      if ((await signOfLife(context, there, family, askMs, 0)).answers && (await this.#serialAt(there, family)) === spare.serial) return;
      if (ownNow() >= until || signal.aborted)
        throw new CauseError(
          'never-returned',
          `${spare.name} was given the settings of ${device.name} and restarted, and does not answer at ${device.address}`,
        );
      await ownPause(lookMs, signal);
    }
  }

  /** The part that the device plays is played by the other box from now on; what is known of the boxes changes places. */
  async #exchange(device: DeviceRow, spare: DeviceRow, by: string): Promise<void> {
    const { context } = this.parts;
    const at = Date.now();
    const rows = new Map((await context.db.find(DeviceEntity, { id: { $in: [device.id, spare.id] } })).map((r) => [r.id, r]));
    const [role, other] = [rows.get(device.id)!, rows.get(spare.id)!];
    const of = (row: DeviceRow): Partial<DeviceRow> => Object.fromEntries(hardware.map((key) => [key, row[key]]));
    // A password goes to it where it is now, as it went to it where it was.
    const approved = other.approved && { ...other.approved, address: role.address, at, by };
    const history = (row: DeviceRow, after: DeviceRow, probe: string): object[] =>
      Object.entries(told).flatMap(([key, field]) => {
        const [was, is] = [row[key as keyof typeof told], after[key as keyof typeof told]];
        return was === is ? [] : [{ device: row.id, at, field, before: was, after: is, probe }];
      });
    const name = safeText(`${role.name}-out-${role.serial ?? role.id}`, 60);
    await context.db.writeSurely(async (em) => {
      await em.nativeUpdate(DeviceEntity, { id: role.id }, { ...of(other), approved, flags: [], lastSeen: at } as never);
      await em.nativeUpdate(DeviceEntity, { id: other.id }, {
        ...of(role),
        name,
        byHand: [...new Set([...other.byHand, 'name'])],
        address: '',
        retired: { at, by, replacedBy: role.name },
        approved: null,
        flags: [],
      } as never);
      const entries = [
        ...history(role, other, `swap by ${by}: ${other.name} took its place`),
        ...history(other, role, `swap by ${by}: it took the place of ${role.name}`),
        { device: other.id, at, field: 'name', before: other.name, after: name, probe: `swap by ${by}` },
      ];
      await em.insertMany(HistoryEntity, entries as never);
    });
    context.log.info({ device: role.name, spare: other.name, by }, 'a spare took the place of a device');
    context.live.changed('devices', [role.id, other.id]);
  }
}

const refused = (code: string, detail: string, next: string): Refusal => new Refusal(422, code, 'Nothing was swapped', detail, next);
