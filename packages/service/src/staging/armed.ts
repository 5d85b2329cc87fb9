import type { Context } from '../context.js';
import { DeviceEntity } from '../data/entities.js';
import { steadyNow } from '../steady.js';

/** Notes that a device takes another version at its next reset, whatever causes that; null: it does not any more. */
export async function setArmed(context: Context, device: string, version: string | null, by: string): Promise<void> {
  const armed = version === null ? null : { version, at: steadyNow(), by };
  await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: device }, { armed }));
  context.live.changed('devices', [device]);
}
