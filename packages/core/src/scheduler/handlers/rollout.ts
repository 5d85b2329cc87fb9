import { always, rolloutAt, type Handlers } from './handler.js';

type Kind = 'rollout-started' | 'held' | 'continued' | 'stop-asked' | 'rollout-ended' | 'service-stopping' | 'service-started' | 'noted';

/** What happens to a rollout as a whole. */
export const ofRollout: Handlers<Kind> = {
  'rollout-started': {
    check: (state) => rolloutAt(state, 'planned'),
    apply(state, { at, by, doneBy }) {
      state.phase = 'running';
      state.doneBy = doneBy ?? null;
      state.startedAt = at;
      state.startedBy = by;
    },
  },
  held: {
    check: (state) => rolloutAt(state, 'running'),
    apply(state, { reason, by }) {
      state.phase = 'held';
      state.heldBecause = reason;
      state.heldBy = by;
    },
  },
  continued: {
    check: (state) => rolloutAt(state, 'held'),
    apply(state, { by }) {
      state.phase = 'running';
      state.heldBecause = null;
      state.heldBy = null;
      // Who goes on with it knows what time it is.
      if (by !== 'Barrow') state.doneBy = null;
      const wave = state.waves[state.wave];
      if (!wave) return;
      wave.forgiven = wave.ended.failed + wave.ended.recovered + wave.broken;
      if (wave.phase === 'soaking' || wave.phase === 'proving')
        Object.assign(wave, {
          unprovenAccepted: true,
          absentAccepted: wave.absent,
          worseAccepted: wave.worse !== null || wave.worseAccepted,
        });
    },
  },
  'stop-asked': {
    check: (state) => rolloutAt(state, 'running', 'held'),
    apply(state) {
      state.phase = 'stopping';
      state.heldBecause = null;
    },
  },
  'rollout-ended': {
    check: ({ runs }) => (runs.some((r) => r.phase !== 'ended') ? 'devices have not ended' : null),
    apply(state, { at }) {
      for (const run of state.runs) run.claims = null;
      state.phase = 'ended';
      state.endedAt = at;
    },
  },
  'service-stopping': {
    check: always,
    apply(state) {
      state.draining = true;
    },
  },
  'service-started': {
    check: always,
    apply(state) {
      state.draining = false;
      state.runs.forEach((run, i) => {
        if (run.phase !== 'busy' && run.phase !== 'asking') return;
        run.phase = 'lost';
        state.lost.add(i);
      });
    },
  },
  noted: { check: always, apply: () => undefined },
};
