import { cause as causeOf, type CauseCode } from '../causes/catalogue.js';
import type { SoakFinding } from './judge.js';

/** What is measured by the look after a soak. */
export const lookedAgain = 'the look after the soak';

/**
 * Of a device that was verified, soaked, and is not as it was then: it runs what it ran before, or is otherwise, or cannot be looked at.
 *
 * @param runs the version that it tells now, where that is not the one that it was brought to; null: it is, or it does not tell
 * @param decidedBy who else decides on its firmware, where a person has told
 */
export function notAsVerified(of: {
  readonly name: string;
  readonly model: string;
  readonly wanted: string;
  readonly runs: string | null;
  readonly decidedBy: string | null;
  readonly cause: CauseCode;
  readonly detail: string;
}): SoakFinding {
  const { name, model, wanted, runs, decidedBy, cause, detail } = of;
  const text =
    runs !== null
      ? `${name} runs ${runs} and not ${wanted}: reverted by ${decidedBy ?? 'itself, or by somebody of whom nobody has told (`barrow device set --decided-by`)'}`
      : `${name} is not as it was when it was verified: ${causeOf(cause).what.replace(/\.$/, '')} (${detail})`;
  // Who asks a person for something is not what got worse.
  if (cause === 'not-answered')
    return { model, measure: lookedAgain, verdict: 'unknown', text: `${name} was not looked at once more: ${detail}`, series: [] };
  return { model, measure: lookedAgain, verdict: 'worse', text, series: [] };
}
