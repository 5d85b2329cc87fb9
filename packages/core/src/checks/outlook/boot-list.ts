import type { Check } from '../check.js';
import type { Outlook } from './outlook.js';

type Listed = NonNullable<NonNullable<Outlook['particulars']>['bootList']>[number];
const shown = (list: readonly Listed[]): string => list.map((l) => (l.usable ? l.image : `${l.image} (unusable)`)).join(', ') || 'nothing';

/** It has as many images to start from as before: what it starts first is a check of its own, this is what it would fall back on. */
export function checkBootList(before: Outlook, after: Outlook): Check | null {
  const [was, is] = [before.particulars?.bootList ?? null, after.particulars?.bootList ?? null];
  if (was === null || was.length === 0) return null;
  const usable = (list: readonly Listed[] | null): number => list?.filter((l) => l.usable).length ?? 0;
  const passed = usable(is) >= usable(was);
  return {
    name: 'boot list',
    result: passed ? 'passed' : 'failed',
    before: shown(was),
    after: is === null ? 'not told' : shown(is),
    evidence: passed ? [] : [`it had ${usable(was)} to start from, and has ${is === null ? 'told none' : usable(is)}`],
    cause: passed ? null : 'boot-list-shorter',
  };
}
