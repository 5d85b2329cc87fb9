import { describe, expect, it } from 'vitest';
import { initialState, makePlan, type Candidate, type Outcome, type Passage, type Plan } from '@barrow/core';
import { Refusal } from '../src/errors.js';
import { wayBackOf } from '../src/runner/plan-back.js';

const nothing: Passage = { legs: [], steps: [], stretches: [], rungs: [] };
const candidate = (device: string, needs: readonly string[] = []): Candidate => ({
  ...{ device, name: device, address: '', site: 'a', family: 'f', serial: device, from: '1.0', target: '2.0', image: 'x'.repeat(64) },
  ...{ passage: nothing, under: [device], rings: [], feeds: [], needs: needs.map((d) => ({ leg: 0, device: d })) },
});
const planOf = (candidates: readonly Candidate[]): Plan =>
  makePlan({
    ...{ id: 'r-1', name: 'the night', createdAt: 0, createdBy: '', unsaved: 'hold', wayBack: false, first: 0, atOnce: 9, perSite: 0 },
    ...{ gate: { soakMs: 0, failureLimit: 1, approval: false }, candidates, leftOut: [] },
  });
/** How a rollout stands of which these have ended so. */
const ended = (plan: Plan, outcomes: Readonly<Record<string, Outcome>>) => {
  const state = initialState(plan);
  plan.runs.forEach((run, i) => (state.runs[i]!.outcome = outcomes[run.id] ?? null));
  return { plan, state };
};

describe('the way back of a rollout', () => {
  const plan = planOf([candidate('controller'), candidate('ap-1', ['controller']), candidate('ap-2', ['controller']), candidate('phone')]);

  it('is that of who was verified, each to what it ran before', () => {
    const { name, runs } = wayBackOf(ended(plan, { phone: 'verified', 'ap-1': 'failed', 'ap-2': 'recovered' }));
    expect([name, [...runs]]).toEqual(['the night', [['phone', { version: '1.0', brought: '2.0', after: [] }]]]);
  });

  it('goes the other way round: who was needed goes back after those that needed it, as far as they go back', () => {
    const all = wayBackOf(ended(plan, { controller: 'verified', 'ap-1': 'verified', 'ap-2': 'verified' })).runs;
    expect(all.get('controller')!.after.slice().sort()).toEqual(['ap-1', 'ap-2']);
    expect(all.get('ap-1')!.after).toEqual([]);
    const some = wayBackOf(ended(plan, { controller: 'verified', 'ap-1': 'failed', 'ap-2': 'verified' })).runs;
    expect(some.get('controller')!.after).toEqual(['ap-2']);
  });

  it('is none where nobody was verified', () => {
    expect(() => wayBackOf(ended(plan, { 'ap-1': 'failed' }))).toThrow(Refusal);
  });
});
