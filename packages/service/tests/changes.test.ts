import { describe, expect, it } from 'vitest';
import { apply, firstSteps, initialState, makePassage, makePlan, type RolloutEvent, type Waiting } from '@barrow/core';
import type { ActiveRollout } from '../src/runner/active.js';
import { Changes } from '../src/runner/changes.js';

const stretches = [{ name: 'all', steps: firstSteps.map((step) => ({ step, usualMs: 1000 })) }];
const way = { name: 'two slots', component: 'system', pointOfNoReturn: 'activate', stretches };
const image = 'a'.repeat(64);
const passage = makePassage([{ image, component: 'system', from: '1', to: '2', bytes: 0, way }]);
const plan = makePlan({
  id: 'r',
  name: 'r',
  createdAt: 0,
  createdBy: 'a',
  unsaved: 'hold',
  wayBack: false,
  first: 0,
  atOnce: 3,
  perSite: 0,
  gate: { soakMs: 0, failureLimit: 2, approval: false },
  candidates: ['d1', 'd2', 'd3'].map((device) => ({
    ...{ device, name: device, address: '127.0.0.1', site: 's', family: 'f', serial: device, from: '1', target: '2', image, passage },
    ...{ under: [], rings: [], feeds: [] },
  })),
  leftOut: [],
});

describe('what has changed in a rollout', () => {
  it('is who it happened to, and who waits for another reason than before', async () => {
    let state = initialState(plan);
    const questions = new Map<string, string>();
    const waiting: (Waiting | null)[] = [null, null, null];
    const changes = new Changes({ state, plan, questions, waits: (index: number) => waiting[index]! } as unknown as ActiveRollout, 'e');
    let stand = changes.stand;
    const look = async (): Promise<readonly number[] | null> => {
      const found = await changes.since(stand);
      stand = found.stand;
      return found.changed;
    };
    const happen = (event: RolloutEvent): void => void (state = apply(state, event));
    // As it is for who looked at nothing yet.
    expect(await look()).toEqual([0, 1, 2]);
    expect(await look()).toEqual([]);
    happen({ kind: 'rollout-started', at: 1, by: 'a' });
    happen({ kind: 'wave-opened', at: 1, wave: 0 });
    expect(await look()).toEqual([]);
    // What a person is asked stands in no journal.
    questions.set('d2', 'Which code does it show?');
    expect(await look()).toEqual([1]);
    questions.clear();
    expect(await look()).toEqual([1]);
    happen({ kind: 'step-begun', at: 2, run: 'd2', step: 'preflight', attempt: 1 });
    expect(await look()).toEqual([1]);
    waiting[2] = { text: 'waits for d2', until: null };
    expect(await look()).toEqual([2]);
    waiting[2] = { text: 'waits for d2', until: 9 };
    happen({ kind: 'skip-asked', at: 3, run: 'd2', by: 'a', reason: 'so' });
    expect(await look()).toEqual([1, 2]);
    // What waits is not asked of who has ended; what may be said of who failed depends on the rollout.
    happen({ kind: 'step-failed', at: 4, run: 'd2', step: 'preflight', cause: 'image-damaged', detail: 'so' });
    waiting[1] = { text: 'no', until: null };
    expect(await look()).toEqual([1]);
    happen({ kind: 'stop-asked', at: 5, by: 'a' });
    expect(await look()).toEqual([1]);
  });

  it('is told to each by what he saw last, and is everything to who comes from elsewhere', async () => {
    const state = initialState(plan);
    const changes = new Changes({ state, plan, questions: new Map(), waits: () => null } as unknown as ActiveRollout, 'e');
    const [one, two] = await Promise.all([changes.since(changes.stand), changes.since('e.0')]);
    expect(one).toEqual(two);
    apply(apply(state, { kind: 'rollout-started', at: 1, by: 'a' }), { kind: 'wave-opened', at: 1, wave: 0 });
    apply(state, { kind: 'step-begun', at: 2, run: 'd1', step: 'preflight', attempt: 1 });
    const later = await changes.since(one.stand);
    apply(state, { kind: 'step-done', at: 3, run: 'd1', step: 'preflight' });
    apply(state, { kind: 'step-begun', at: 3, run: 'd3', step: 'preflight', attempt: 1 });
    expect((await changes.since(later.stand)).changed).toEqual([0, 2]);
    expect((await changes.since(one.stand)).changed).toEqual([0, 2]);
    for (const stand of ['', 'other.1', 'e', 'e.x', 'e.']) expect((await changes.since(stand)).changed, stand).toBeNull();
  });
});
