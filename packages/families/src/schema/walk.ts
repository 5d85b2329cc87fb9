import type { Procedure, ProcedureStep } from './shape.js';

/** A step with the place where it stands in its procedure. */
export interface PlacedStep {
  readonly step: ProcedureStep;
  readonly path: readonly (string | number)[];
}

/** Every step of a list, those inside of others too. */
export function* everyStep(steps: readonly ProcedureStep[], path: readonly (string | number)[] = ['do']): Generator<PlacedStep> {
  for (const [index, step] of steps.entries()) {
    const here = [...path, index];
    yield { step, path: here };
    if ('eachFile' in step) yield* everyStep(step.eachFile, [...here, 'eachFile']);
    else if ('do' in step) yield* everyStep(step.do, [...here, 'do']);
  }
}

/** Whether a procedure talks to the device's shell, rather than its pages. */
export const usesShell = (procedure: Procedure): boolean => [...everyStep(procedure.do)].some(({ step }) => 'say' in step);
/** Whether a procedure talks to the device over SIP. */
export const usesSip = (procedure: Procedure): boolean => [...everyStep(procedure.do)].some(({ step }) => 'sip' in step);
/** Whether a procedure sends the login for a page with a form. */
export const needsPageLogin = (procedure: Procedure): boolean => /\$\{page(User|Word)[}|]/.test(JSON.stringify(procedure.do));

/** Whether a procedure talks to the device's web server. */
export const usesWeb = (procedure: Procedure): boolean =>
  [...everyStep(procedure.do)].some(
    ({ step }) => 'get' in step || 'request' in step || ('upload' in step && step.over.startsWith('http') && !step.as),
  );
/** Whether a procedure asks an ONVIF service of the device. */
export const usesOnvif = (procedure: Procedure): boolean => [...everyStep(procedure.do)].some(({ step }) => 'onvif' in step);
/** Whether a procedure talks to the device's SNMP agent. */
export const usesSnmp = (procedure: Procedure): boolean => [...everyStep(procedure.do)].some(({ step }) => 'snmp' in step);
