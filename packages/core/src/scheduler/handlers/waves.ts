import { waveAt, type Handlers } from './handler.js';

/** What happens to a wave, and to the gate after it. */
export const ofWaves: Handlers<'wave-opened' | 'wave-ended' | 'soak-ended' | 'gate-passed' | 'approved'> = {
  'wave-opened': {
    check: (state, { wave }) => waveAt(state, wave, 'waiting') ?? (wave > 0 ? waveAt(state, wave - 1, 'passed') : null),
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
