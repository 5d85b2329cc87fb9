import type { Check } from '../check.js';
import { checkBootList } from './boot-list.js';
import { checkBundles } from './bundles.js';
import { checkCalls } from './calls.js';
import { checkChildren } from './children.js';
import { checkClock } from './clock.js';
import { checkDoors, withoutRemoved } from './doors.js';
import type { Excused } from './excused.js';
import { checkForwarding } from './forwarding.js';
import { checkLicences } from './licences.js';
import { checkLog } from './log.js';
import { checkLogins } from './logins.js';
import { checkNeighbours } from './neighbours.js';
import type { Outlook } from './outlook.js';
import { checkPicture } from './picture.js';
import { checkPorts } from './ports.js';
import { checkPower } from './power.js';
import { checkRecording } from './recording.js';
import { checkRing } from './ring.js';
import { checkRoutes } from './routes.js';
import { checkSettingsSource } from './settings-source.js';
import { checkTree } from './tree.js';
import { checkTunnels } from './tunnels.js';

/** In the order in which one explains the next: a port that is down has no neighbour, and what has no port learns nothing. */
const all = [
  checkDoors,
  checkLogins,
  checkPorts,
  checkBundles,
  checkPower,
  checkNeighbours,
  checkForwarding,
  checkTree,
  checkRing,
  checkTunnels,
  checkRoutes,
  checkClock,
  checkPicture,
  checkCalls,
  checkChildren,
  checkRecording,
  checkBootList,
  checkSettingsSource,
  checkLicences,
  checkLog,
];

/**
 * What a device shows of what is around it, against what it showed before. Which checks are made follows from what it showed then: who
 * told of no routes is asked for none.
 */
export function compareOutlooks(before: Outlook, after: Outlook, excused: Excused): Check[] {
  const there = withoutRemoved(before, after, excused.removes ?? []);
  return all.flatMap((check) => check(check === checkDoors ? before : there, after, excused) ?? []);
}
