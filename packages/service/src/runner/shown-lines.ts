import { legSteps, passageOf, type Plan, type PlannedRun } from '@barrow/core';
import { linesByHand, type Family, type Procedure } from '@barrow/families';

/** What lets them go; everything else that a person may say leaves the device out. */
export const sendWord = 'send';

/** Of what a procedure is given, what may be shown beforehand: no password, and no address that is made when it is offered. */
export const shownValues = ({ storePassword: _, storeUrl: __, ...shown }: Record<string, string>): Record<string, string> => shown;

/**
 * What would change a device by a family that nobody has seen change one, step by step, as a person is shown it before the first of it is
 * sent: every line of its steps that write, or take it down. What only the device can tell is not filled in yet.
 *
 * @returns the words; null when nothing of it sends anything
 */
export function changingLines(
  plan: Plan,
  run: PlannedRun,
  family: Family,
  valuesFor: (image: string) => Readonly<Record<string, string>>,
): string | null {
  const passage = passageOf(plan, run);
  const procedures = family.procedures as Readonly<Record<string, Procedure | undefined>>;
  const shown = passage.steps.slice(0, legSteps(passage)).flatMap(({ step, leg, writes, down, waits, words, sets }) => {
    const procedure = procedures[step];
    if (!procedure || words !== undefined || waits || !(writes || down || sets)) return [];
    const image = passage.legs[leg]?.image;
    const lines = linesByHand(procedure, image === undefined ? {} : valuesFor(image));
    return lines.length === 0 ? [] : [`  ${step}`, ...lines.map((line) => `    ${line}`)];
  });
  if (shown.length === 0) return null;
  return [
    `Nobody has seen the family ${family.family} change a device here. This is what it would send to ${run.name}, and what is in ‹› is filled in then:`,
    ...shown,
    `Answer "${sendWord}" to have it sent; leave the device out, and nothing is.`,
  ].join('\n');
}
