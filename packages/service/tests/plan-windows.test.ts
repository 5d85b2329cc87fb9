import { describe, expect, it } from 'vitest';
import { makePassage } from '@barrow/core';
import { windowOfHour } from '../src/runner/plan-windows.js';
import { windowFor } from '../src/windows.js';

const now = Date.parse('2026-11-26T12:00Z');
const way = {
  ...{ name: 'by itself', component: 'system', pointOfNoReturn: 'activate', applies: { at: 3 * 60, zone: 'UTC' } },
  stretches: [{ name: 'change', steps: ['activate', 'return', 'checks'].map((step) => ({ step, usualMs: 60_000 })) }],
};
const passage = makePassage([{ image: 'a'.repeat(64), component: 'system', from: '1', to: '2', bytes: 0, way }]);
const at = (from: string, to: string) =>
  windowOfHour('gate-1', passage, way, {
    asked: windowFor({ from, to, days: [], dates: [], zone: 'UTC' }, now),
    wayBack: false,
    now,
  })!;

describe('the window of a device that takes an image at an hour of its own', () => {
  it('is another one where its site has another window', () => {
    const [one, other] = [at('22:00', '04:00'), at('02:57', '05:00')];
    expect(one.window.spans[0]).not.toEqual(other.window.spans[0]);
    // A plan keeps each under its name.
    expect(one.name).not.toBe(other.name);
    expect(at('22:00', '04:00').name).toBe(one.name);
  });

  it('is refused where its hour does not lie in that of its site', () => {
    expect(() => at('22:00', '02:00')).toThrow(/takes an image by itself at 03:00/);
  });
});
