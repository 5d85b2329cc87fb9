import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** It has learned addresses again (RFC 4188, RFC 4363): one that has learned none forwards nothing. Fewer than before are no fault at night. */
export function checkForwarding(before: Outlook, after: Outlook): Check | null {
  if (before.learned === null) return null;
  const passed = after.learned !== null;
  return {
    name: 'forwarding',
    result: passed ? 'passed' : 'failed',
    before: `${before.learned} addresses learned`,
    after: `${after.learned ?? 'no'} addresses learned`,
    evidence: [],
    cause: passed ? null : 'forwards-nothing',
  };
}

/** Of the routes so many may be missing: hosts come and go. */
const leastShare = 0.8;

/** It knows its routes again (RFC 4292 inetCidrRouteNumber), by their number. */
export function checkRoutes(before: Outlook, after: Outlook): Check | null {
  if (before.routes === null || before.routes === 0) return null;
  const passed = after.routes !== null && after.routes >= Math.ceil(before.routes * leastShare);
  return {
    name: 'routes',
    result: passed ? 'passed' : 'failed',
    before: `${before.routes}`,
    after: after.routes === null ? 'not told' : `${after.routes}`,
    evidence: passed ? [] : [`of ${before.routes} at least ${Math.ceil(before.routes * leastShare)} were to come back`],
    cause: passed ? null : 'routes-missing',
  };
}

/** The spanning tree has the same root (RFC 4188 dot1dStpDesignatedRoot): another one means other ways for everybody. */
export function checkTree(before: Outlook, after: Outlook): Check | null {
  if (before.root === null) return null;
  const passed = after.root === before.root;
  return {
    name: 'spanning tree',
    result: passed ? 'passed' : 'failed',
    before: `root ${before.root}`,
    after: after.root === null ? 'no root told' : `root ${after.root}`,
    evidence: [],
    cause: passed ? null : 'tree-changed',
  };
}
