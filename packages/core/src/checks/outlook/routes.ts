import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

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
