import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** At the doors where its kept logins opened it, they open it again: one that an upgrade took away is missed by who needs it next. */
export function checkLogins(before: Outlook, after: Outlook): Check | null {
  if (before.logins.length === 0) return null;
  const opened = new Set(after.logins);
  const refused = before.logins.filter((door) => !opened.has(door));
  return {
    name: 'logins',
    result: refused.length > 0 ? 'failed' : 'passed',
    before: before.logins.join(', '),
    after: after.logins.join(', ') || 'none',
    evidence: refused.map((door) => `${door} let its login in and does not`),
    cause: refused.length > 0 ? 'door-login-lost' : null,
  };
}
