import { hazardCodes, hazardKinds, meantName, someNames, type Hazard, type HazardCode, type Plan } from '@barrow/core';
import { Refusal } from '../errors.js';

/** Accepts whatever has to be. */
const everything = 'all';

const told = ({ code, groups }: Hazard): string => {
  const devices = groups.flatMap((g) => g.devices);
  return `${code} (${hazardKinds[code].what}: ${someNames(devices, 3)})`;
};

/**
 * The hazards of a plan that have to be accepted before its start, each of which has been.
 *
 * @param words codes of hazards, or `all`
 * @throws Refusal naming those that nobody has accepted yet, or a word that is none
 */
export function acceptedOf({ id, hazards = [] }: Pick<Plan, 'id' | 'hazards'>, words: readonly string[]): HazardCode[] {
  const known: readonly string[] = [everything, ...hazardCodes];
  const unknown = words.find((w) => !known.includes(w));
  if (unknown !== undefined) {
    const meant = meantName(unknown, known);
    throw new Refusal(
      422,
      'hazard-unknown',
      'That is no hazard',
      `There is no hazard "${unknown}".${meant === null ? '' : ` Is ${meant} meant?`}`,
      `\`barrow rollout show ${id}\` names those of this plan.`,
    );
  }
  const toAccept = hazards.filter((h) => hazardKinds[h.code].accept);
  const open = words.includes(everything) ? [] : toAccept.filter((h) => !words.includes(h.code));
  if (open.length > 0)
    throw new Refusal(
      409,
      'hazards-open',
      'Something has to be accepted first',
      `Nobody has accepted ${open.map(told).join('; ')}.`,
      `Read \`barrow rollout show ${id}\`; then accept by name: \`barrow rollout start ${id} --accept ${toAccept.map((h) => h.code).join(',')}\`.`,
    );
  return toAccept.map((h) => h.code);
}
