import { expect, it } from 'vitest';
import { emptyOutlook, type Outlook } from '@barrow/core';
import { outlookBefore } from '../src/runner/outlooks.js';

const with1 = (doors: string[]): Outlook => ({ ...emptyOutlook, doors });
const trace = (outlook: unknown) => ({ begunAt: 0, endedAt: 0, facts: { outlook } });
type Trail = Parameters<typeof outlookBefore>[0]['trail'];
const of = (own: Record<string, unknown>, leg: Record<string, unknown>): Trail => ({
  get: (name) => (name in own ? trace(own[name]) : undefined),
  ofLeg: (name) => (name in leg ? trace(leg[name]) : undefined),
  earlier: () => undefined,
});

it('one that is taken back is compared with what it showed before the leg that failed, and not with what it shows since', () => {
  const leg = { preflight: with1(['SSH', 'SNMP', 'HTTP']), activate: with1(['SSH', 'SNMP']) };
  // The restart of a rung looks once more: at a device that is broken.
  expect(outlookBefore({ trail: of({ reboot: with1(['SSH']) }, leg) })).toEqual(leg.activate);
});

it('the last look before the change counts; what cannot be read, or was never looked at, does not', () => {
  const all = { preflight: with1(['A']), reboot: with1(['B']) };
  expect(outlookBefore({ trail: of(all, all) })?.doors).toEqual(['B']);
  expect(outlookBefore({ trail: of({ preflight: with1(['A']) }, {}) })?.doors).toEqual(['A']);
  expect(outlookBefore({ trail: of({ activate: { doors: 5 } }, { preflight: with1(['A']) }) })?.doors).toEqual(['A']);
  expect(outlookBefore({ trail: of({}, {}) })).toBeNull();
});
