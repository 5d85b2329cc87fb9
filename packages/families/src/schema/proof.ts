import type { ComparedBy } from '@barrow/core';
import type { Condition, Procedure, ProcedureStep } from './shape.js';

const digests = /\$\{(imageSha256|fileSha256)\b/;
const sizes = /\$\{(imageBytes|fileBytes)\b/;

/** By what a procedure itself compares what is held with the image, each time that it is carried out: what may be left out proves nothing. */
export function comparesBy(procedure: Procedure): ComparedBy {
  const texts = procedure.do.flatMap(comparisons);
  if (texts.some((t) => digests.test(t))) return 'digest';
  return texts.some((t) => sizes.test(t)) ? 'size' : 'nothing';
}

/** The values that a step compares for equality, and fails when they differ. */
function comparisons(step: ProcedureStep): string[] {
  if ('eachFile' in step) return step.eachFile.flatMap(comparisons);
  if ('check' in step) return mustBeEqual(step.check);
  return 'pick' in step && step.pick.otherwise !== undefined ? mustBeEqual(step.pick.where) : [];
}

/** What must be equal for a condition to hold. */
function mustBeEqual(condition: Condition): string[] {
  if ('all' in condition) return condition.all.flatMap(mustBeEqual);
  return 'value' in condition && condition.is !== undefined ? [condition.value, condition.is] : [];
}

/** Whether a procedure asks the device, or who holds things for it, anything at all. */
export function asks(steps: readonly ProcedureStep[]): boolean {
  return steps.some(
    (step) =>
      'say' in step ||
      'get' in step ||
      'request' in step ||
      'snmp' in step ||
      'sip' in step ||
      'upload' in step ||
      ('eachFile' in step && asks(step.eachFile)) ||
      ('repeat' in step && asks(step.do)) ||
      'receive' in step,
  );
}
