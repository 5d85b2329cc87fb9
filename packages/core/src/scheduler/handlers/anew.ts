import type { Claim } from '../../plan/plan.js';
import { breakRun, darkWith, endRun, firstRung, noRung, reopen, revive, strand } from '../passing.js';
import type { RolloutState } from '../state.js';
import { nameOf, runAt, runOf, type Handlers } from './handler.js';

/** Whether Barrow is at work on a device in this rollout. */
function isInHand(state: RolloutState, device: string): boolean {
  const phase = state.runs[state.indexOf.get(device) ?? -1]?.phase ?? 'ended';
  return phase !== 'ended' && phase !== 'waiting' && phase !== 'absent';
}

/** What becomes of a run that has ended, or broke. */
export const ofAnew: Handlers<'run-retried' | 'take-back-asked' | 'run-given-up' | 'run-released'> = {
  'run-retried': {
    check(state, { run }) {
      const why = runAt(state, run, ['ended']);
      if (why !== null) return why;
      const index = runOf(state, run);
      return state.runs[index]!.outcome === 'verified' ? `${nameOf(state, index)} has ended verified: there is nothing to retry` : null;
    },
    apply: (state, { run }) => revive(state, runOf(state, run)),
  },
  'take-back-asked': {
    check(state, { run, cutsOff }) {
      const why = runAt(state, run, ['ended']);
      if (why !== null) return why;
      const index = runOf(state, run);
      if (firstRung(state, index, cutsOff) === null) return noRung(state, index);
      // Two that are taken back with each other's power would wait for each other.
      const inHand = cutsOff && darkWith(state, index)?.find(({ device }) => isInHand(state, device));
      return inHand ? `${inHand.name}, which would lose its power with it, is in hand` : null;
    },
    apply(state, { run: id, cutsOff = false }) {
      const index = runOf(state, id);
      const run = state.runs[index]!;
      const rung = firstRung(state, index, cutsOff)!;
      // Its device is in hand again; that of who had ended was not.
      const { device } = state.plan.runs[index]!;
      const claims: Claim[] = [...(run.claims ?? []), { key: `device:${device}`, mode: 'exclusive' }];
      reopen(state, index, 'active');
      Object.assign(run, { claims, endedAt: null, outcome: null, tried: [], mayCutOff: cutsOff, pastReturn: true });
      breakRun(state, index, rung);
      // Who needs it waits again for what comes of it.
      for (const other of state.dependants.get(index) ?? []) strand(state, other);
      // Who says so has seen its failure.
      state.waves[run.wave]!.forgiven++;
    },
  },
  'run-given-up': {
    check: (state, { run }) => runAt(state, run, ['broken']),
    apply: (state, { run, at }) => endRun(state, runOf(state, run), 'failed', at),
  },
  'run-released': {
    check(state, { run }) {
      const why = runAt(state, run, ['ended']);
      if (why !== null) return why;
      const index = runOf(state, run);
      return state.runs[index]!.claims ? null : `${nameOf(state, index)} holds nothing`;
    },
    apply(state, { run }) {
      state.runs[runOf(state, run)]!.claims = null;
    },
  },
};
