import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

/** Its next start takes its settings from where it took them before: the same settings now say nothing of the next restart. */
export function checkSettingsSource(before: Outlook, after: Outlook): Check | null {
  const was = before.particulars?.settingsFrom ?? null;
  if (was === null) return null;
  const is = after.particulars?.settingsFrom ?? null;
  return {
    name: 'settings source',
    result: is === was ? 'passed' : 'failed',
    before: was,
    after: is ?? 'not told',
    evidence: [],
    cause: is === was ? null : 'settings-from-elsewhere',
  };
}
