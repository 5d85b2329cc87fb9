import type { DeviceId } from '../../units.js';
import { armedOtherwise } from './armed-otherwise.js';
import { cutOff, ownPath } from './cut-off.js';
import type { HazardFacts, HazardLook } from './hazard.js';
import { hazardCodes, type Hazard, type HazardCode, type HazardGroup } from './kinds.js';
import { lifeline } from './lifeline.js';
import { longUp } from './long-up.js';
import { noRedundancy } from './no-redundancy.js';
import {
  clockWrong,
  decidedElsewhere,
  licence,
  littleRoom,
  loginsBehind,
  neverAsked,
  radioUnknown,
  servesOthers,
  singleSupply,
} from './said.js';
import {
  backupLacks,
  digestUntold,
  drops,
  leftBehind,
  mismatch,
  noBackup,
  notesUnread,
  oneWay,
  resets,
  restartLoses,
  takenAlong,
} from './told.js';
import { unproven } from './unproven.js';
import { uplinkUnknown } from './uplink-unknown.js';

export { someNames } from './hazard.js';
export type { DeviceFacts, HazardFacts, RunFacts } from './hazard.js';
export { hazardCodes, hazardKinds, type Hazard, type HazardCode } from './kinds.js';
export { lifelineTags } from './lifeline.js';

const looks: Readonly<Record<HazardCode, HazardLook>> = {
  lifeline,
  'left-behind': leftBehind,
  'taken-along': takenAlong,
  resets,
  drops,
  'armed-otherwise': armedOtherwise,
  'one-way': oneWay,
  unproven,
  'decided-elsewhere': decidedElsewhere,
  licence,
  mismatch,
  'own-path': ownPath,
  'cut-off': cutOff,
  'no-redundancy': noRedundancy,
  'uplink-unknown': uplinkUnknown,
  'serves-others': servesOthers,
  'logins-behind': loginsBehind,
  'radio-unknown': radioUnknown,
  'never-asked': neverAsked,
  'notes-unread': notesUnread,
  'digest-untold': digestUntold,
  'little-room': littleRoom,
  'single-supply': singleSupply,
  'clock-wrong': clockWrong,
  'restart-loses': restartLoses,
  'backup-lacks': backupLacks,
  'no-backup': noBackup,
  'long-up': longUp,
};

/** Everything in a plan that could hurt, those first that have to be accepted. Linear in devices and in what hangs on them. */
export function hazardsOf(facts: HazardFacts): Hazard[] {
  const below = new Map<DeviceId, DeviceId[]>();
  for (const [device, above] of facts.under)
    for (const one of above)
      if (one !== device) {
        const list = below.get(one);
        if (list) list.push(device);
        else below.set(one, [device]);
      }
  const carried = (device: DeviceId): readonly DeviceId[] => below.get(device) ?? [];
  return hazardCodes.flatMap((code) => {
    const groups = new Map<string, HazardGroup & { devices: string[] }>();
    for (const run of facts.plan.runs) {
      const found = looks[code](run, facts, carried);
      if (found === null) continue;
      const forMs = found.forMs ?? null;
      const key = `${found.words}/${forMs}`;
      const group = groups.get(key);
      if (group) group.devices.push(run.name);
      else groups.set(key, { words: found.words, forMs, devices: [run.name] });
    }
    return groups.size === 0 ? [] : [{ code, groups: [...groups.values()] }];
  });
}
