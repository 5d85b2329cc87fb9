import { legsOf } from '../../plan/plan.js';
import { endRun, moveTo, nextLeg, provesFrom } from '../passing.js';
import { currentStep, type RolloutState } from '../state.js';
import { nameOf, notPast, runAt, runOf, type EventOf, type Handlers } from './handler.js';

type Kind = 'skip-asked' | 'run-skipped' | 'leg-skipped' | 'leg-proven' | 'run-withdrawn' | 'run-needless';

/** A run, or what is left of it, is left out. */
function leave(state: RolloutState, event: EventOf<'run-skipped' | 'run-withdrawn'>): void {
  const index = runOf(state, event.run);
  const run = state.runs[index]!;
  const legs = legsOf(state.plan, state.plan.runs[index]!);
  // All that was to be brought was brought and checked: only what comes after the soak is left out.
  if (run.legs === legs.length) {
    run.detail = `${event.reason}; its other copy was not brought level`;
    return endRun(state, index, 'verified', event.at);
  }
  const brought = run.legs > 0 ? `; it was brought to ${legs[run.legs - 1]!.to}` : '';
  run.detail = event.reason + brought + (run.changed ? '; an earlier attempt had changed it' : '');
  // Barrow leaves out of itself only what is there already; a person's word says nothing of that.
  run.met = 'by' in event && event.by === 'Barrow' && run.wish === null;
  endRun(state, index, event.kind === 'run-skipped' ? 'skipped' : 'withdrawn', event.at);
}

/** Why a leg cannot be behind a run; null when it can. */
function behind(state: RolloutState, { run, leg }: EventOf<'leg-skipped' | 'leg-proven'>): string | null {
  const why = runAt(state, run, ['busy']);
  if (why !== null) return why;
  return currentStep(state, runOf(state, run)).leg === leg ? notPast(state, run) : `that is not leg ${leg + 1}`;
}

/** How a run ends before its end, or goes on further ahead. */
export const ofLeaving: Handlers<Kind> = {
  'skip-asked': {
    check: (state, { run }) =>
      runAt(state, run, ['waiting', 'parked', 'absent', 'ready', 'busy', 'lost', 'asking', 'broken']) ?? notPast(state, run),
    apply(state, { run, by, reason }) {
      const index = runOf(state, run);
      state.runs[index]!.wish = { by, reason };
      state.wishes.add(index);
    },
  },
  'run-skipped': {
    check: (state, { run }) => runAt(state, run, ['waiting', 'parked', 'absent', 'ready', 'busy']) ?? notPast(state, run),
    apply: leave,
  },
  'run-withdrawn': {
    check: (state, { run }) => runAt(state, run, ['waiting', 'parked', 'absent', 'ready', 'busy', 'lost']) ?? notPast(state, run),
    apply: leave,
  },
  'leg-skipped': {
    check: (state, event) => behind(state, event) ?? (nextLeg(state, runOf(state, event.run)) === null ? 'there is no leg after it' : null),
    apply(state, { run, at }) {
      const index = runOf(state, run);
      moveTo(state, index, nextLeg(state, index)!, at);
    },
  },
  'leg-proven': {
    check: behind,
    apply(state, { run, at, reason }) {
      const index = runOf(state, run);
      const next = nextLeg(state, index) ?? provesFrom(state, index);
      if (next !== null) return moveTo(state, index, next, at);
      state.runs[index]!.detail = reason;
      endRun(state, index, 'verified', at);
    },
  },
  'run-needless': {
    check(state, { run }) {
      const why = runAt(state, run, ['waiting', 'parked']);
      if (why !== null) return why;
      const index = runOf(state, run);
      return state.stranded.has(index) ? null : `${nameOf(state, index)} needs nothing that has ended`;
    },
    apply(state, { run: id, at, detail }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      run.cause = 'needed-run';
      run.detail = detail;
      endRun(state, index, run.legs === 0 && !run.changed ? 'not-begun' : 'failed', at);
    },
  },
};
