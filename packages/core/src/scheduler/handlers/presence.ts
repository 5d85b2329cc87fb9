import { cause as causeOf } from '../../causes/catalogue.js';
import { endRun, joinWave } from '../passing.js';
import { currentStep, mostAbsences } from '../state.js';
import { nameOf, runAt, runOf, type Handlers } from './handler.js';

/** Whose device is there, and whose is not. */
export const ofPresence: Handlers<'run-absent' | 'run-seen' | 'run-missed' | 'taken-early'> = {
  'run-absent': {
    check(state, { run: id, cause }) {
      const why = runAt(state, id, ['busy']);
      if (why !== null) return why;
      const index = runOf(state, id);
      const name = nameOf(state, index);
      const { legs, absences, rung } = state.runs[index]!;
      if (legs > 0 || rung !== null || !currentStep(state, index).looks) return `${name} was begun with`;
      if (!causeOf(cause).passes) return `${cause} does not pass by itself`;
      // Who waits for it must not wait for what may never be seen.
      if (state.dependants.has(index)) return `others wait for ${name}`;
      return absences < mostAbsences ? null : `${name} was not there ${absences} times`;
    },
    apply(state, { run: id, at, cause, detail }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      const wave = state.waves[run.wave]!;
      wave.active--;
      wave.absent++;
      state.absent.add(index);
      Object.assign(run, { phase: 'absent', step: 0, stretch: 0, claims: null, stepBegunAt: null, pastReturn: false });
      Object.assign(run, { absentSince: at, absences: run.absences + 1, cause, detail });
    },
  },
  'run-seen': {
    check: (state, { run }) => runAt(state, run, ['absent']),
    apply(state, { run: id }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      state.absent.delete(index);
      state.waves[run.wave]!.absent--;
      joinWave(state, index, 'active');
      Object.assign(run, { phase: 'parked', absentSince: null, cause: null, detail: null });
    },
  },
  'taken-early': {
    check: (state, { run }) => runAt(state, run, ['armed']),
    apply(state, { run, at }) {
      const armed = state.runs[runOf(state, run)]!;
      armed.dueAt = Math.min(armed.dueAt!, at);
    },
  },
  'run-missed': {
    check: (state, { run }) => runAt(state, run, ['absent']),
    apply(state, { run, at }) {
      const index = runOf(state, run);
      endRun(state, index, state.runs[index]!.changed ? 'failed' : 'not-begun', at);
    },
  },
};
