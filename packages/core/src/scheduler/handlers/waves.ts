import { rolloutAt, waveAt, type Handlers } from './handler.js';

/** What happens to a wave, and to the gate after it. */
export const ofWaves: Handlers<
  'wave-opened' | 'wave-ended' | 'soak-judged' | 'soak-ended' | 'gate-passed' | 'approved' | 'wave-held' | 'wave-freed'
> = {
  'wave-opened': {
    check: (state, { wave }) =>
      waveAt(state, wave, 'waiting') ??
      (wave > 0 ? waveAt(state, wave - 1, 'passed') : null) ??
      (state.waves[wave]!.heldBack === null ? null : `wave ${wave + 1} is held back`),
    apply(state, { wave }) {
      state.waves[wave]!.phase = 'open';
      state.wave = wave;
    },
  },
  'wave-ended': {
    check(state, { wave: index }) {
      const why = waveAt(state, index, 'open');
      if (why !== null) return why;
      const { waiting, active, soaking } = state.waves[index]!;
      return waiting + active - soaking > 0 ? 'devices of the wave have not ended' : null;
    },
    apply(state, { wave: index, at }) {
      const wave = state.waves[index]!;
      wave.phase = 'soaking';
      wave.endedAt = at;
      // Who came later soaks, and is looked at, too.
      wave.judged = false;
      wave.worse = null;
    },
  },
  'soak-judged': {
    check(state, { wave: index }) {
      const why = waveAt(state, index, 'soaking');
      if (why !== null) return why;
      return state.waves[index]!.judged ? 'its soak has been judged' : null;
    },
    apply(state, { wave: index, worse }) {
      Object.assign(state.waves[index]!, { judged: true, worse });
    },
  },
  'wave-held': {
    check: (state, { wave }) =>
      rolloutAt(state, 'running', 'held') ??
      waveAt(state, wave, 'waiting') ??
      (state.waves[wave]!.heldBack ? `wave ${wave + 1} is held back already` : null),
    apply(state, { wave, by, reason }) {
      state.waves[wave]!.heldBack = { by, reason };
    },
  },
  'wave-freed': {
    check: (state, { wave }) =>
      waveAt(state, wave, 'waiting') ?? (state.waves[wave]!.heldBack ? null : `wave ${wave + 1} is not held back`),
    apply(state, { wave }) {
      state.waves[wave]!.heldBack = null;
    },
  },
  'soak-ended': {
    check: (state, { wave }) => waveAt(state, wave, 'soaking'),
    apply(state, { wave }) {
      state.waves[wave]!.phase = 'proving';
    },
  },
  'gate-passed': {
    check: (state, { wave }) => (state.waves[wave]?.phase === 'proving' ? null : waveAt(state, wave, 'soaking')),
    apply(state, { wave }) {
      state.waves[wave]!.phase = 'passed';
    },
  },
  approved: {
    check: (state, { wave }) => (state.waves[wave] === undefined ? waveAt(state, wave, 'waiting') : null),
    apply(state, { wave, by }) {
      state.waves[wave]!.approvedBy = by;
    },
  },
};
