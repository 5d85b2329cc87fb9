import { cause as causeOf } from '../../causes/catalogue.js';
import { breakRun, endAtLast, endRun, enter, nextRung, stepDone } from '../passing.js';
import { currentStep, nextClaims } from '../state.js';
import { nameOf, runAt, runOf, type Handlers } from './handler.js';

type Kind =
  'person-asked' | 'person-answered' | 'stretch-entered' | 'step-begun' | 'step-done' | 'step-failed' | 'reconcile-begun' | 'reconciled';

/** How a run passes through its stretches and steps. */
export const ofSteps: Handlers<Kind> = {
  'stretch-entered': {
    check(state, { run, stretch }) {
      const why = runAt(state, run, ['waiting', 'parked', 'broken']);
      if (why !== null) return why;
      const index = runOf(state, run);
      return state.runs[index]!.stretch === stretch ? null : `${nameOf(state, index)} is before another stretch`;
    },
    apply: (state, { run, claims, at }) => enter(state, runOf(state, run), claims, at),
  },
  'step-begun': {
    // In journals of before, the first step was the entry.
    check: (state, { run, step, leg }) => runAt(state, run, ['waiting', 'parked', 'ready', 'armed', 'lost'], step, leg),
    apply(state, { run: id, at }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      if (run.phase === 'waiting' || run.phase === 'parked') enter(state, index, nextClaims(state.plan, state, index), at);
      state.ready.delete(index);
      state.lost.delete(index);
      state.armed.delete(index);
      run.dueAt = null;
      if (currentStep(state, index).sets === 'aside') run.owes = true;
      run.phase = 'busy';
      run.stepBegunAt = at;
      if (currentStep(state, index).pastReturn) run.pastReturn = true;
    },
  },
  'step-done': {
    check: (state, { run, step, leg }) => runAt(state, run, ['busy'], step, leg),
    apply(state, { run, at, facts }) {
      const index = runOf(state, run);
      if (state.runs[index]!.rung !== null && typeof facts?.['unsure'] === 'string') state.runs[index]!.unsure = facts['unsure'];
      stepDone(state, index, at);
    },
  },
  'step-failed': {
    check: (state, { run, step, leg }) => runAt(state, run, ['busy', 'asking'], step, leg),
    apply(state, { run: id, at, step, cause, detail }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      if (run.ending) return endAtLast(state, index, detail, at);
      // What failed first stays the cause, unless what mending led to is worse.
      if (run.rung === null || causeOf(cause).outweighs) Object.assign(run, { cause, detail });
      if (run.rung !== null) run.tried = [...run.tried, { rung: run.rung, step, cause, detail }];
      const next = nextRung(state, index, cause);
      if (next !== null) return breakRun(state, index, next);
      const untouched = run.legs === 0 && !run.changed && currentStep(state, index).looks && causeOf(cause).counts === 'not-begun';
      endRun(state, index, untouched && run.rung === null ? 'not-begun' : 'failed', at);
    },
  },
  'person-asked': { check: (state, { run }) => runAt(state, run, ['busy', 'asking']), apply: () => undefined },
  'person-answered': { check: (state, { run }) => runAt(state, run, ['busy', 'asking']), apply: () => undefined },
  'reconcile-begun': {
    check: (state, { run, step, leg }) => runAt(state, run, ['lost'], step, leg),
    apply(state, { run }) {
      const index = runOf(state, run);
      state.lost.delete(index);
      state.runs[index]!.phase = 'asking';
    },
  },
  reconciled: {
    check: (state, { run, step, leg }) => runAt(state, run, ['asking'], step, leg),
    apply(state, { run, at, truth }) {
      const index = runOf(state, run);
      if (truth === 'done') return stepDone(state, index, at);
      state.runs[index]!.phase = 'ready';
      state.ready.add(index);
    },
  },
};
