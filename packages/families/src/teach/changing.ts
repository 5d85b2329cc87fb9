import { everyStep } from '../schema/walk.js';
import type { Family, Procedure } from '../schema/shape.js';
import { onlyAsk } from './try.js';

/** The lines that a family types in procedures that only ask. */
export const linesThatAsk = (family: Family): ReadonlySet<string> =>
  new Set(
    onlyAsk.flatMap((name) => [...everyStep(family.procedures[name]?.do ?? [])].flatMap(({ step }) => ('say' in step ? [step.say] : []))),
  );

/**
 * What of a procedure may change a device, in words, in its order. Reading is: GET (RFC 9110 §9.2.1) over HTTP, get and walk over
 * SNMP, Get operations of ONVIF, OPTIONS over SIP. What a line does that is typed into a shell nobody can tell from the line.
 *
 * @param asks lines that are known to ask only
 */
export function changingSteps(procedure: Procedure, asks: ReadonlySet<string>): string[] {
  return [...everyStep(procedure.do)].flatMap(({ step }): string[] => {
    if ('say' in step) return asks.has(step.say) ? [] : [`types "${step.say}"`];
    if ('request' in step) return step.method === 'GET' ? [] : [`${step.method} ${step.request}`];
    if ('upload' in step) return [`uploads to ${step.upload}`];
    if ('sip' in step) return step.sip === 'OPTIONS' ? [] : [`SIP ${step.sip}`];
    if ('onvif' in step) return step.onvif.startsWith('Get') ? [] : [`ONVIF ${step.onvif}`];
    if ('snmp' in step) return 'set' in step.snmp ? step.snmp.set.map(({ oid }) => `sets ${oid} by SNMP`) : [];
    return [];
  });
}
