import type { Procedure, ProcedureStep } from './shape.js';

/** What a person would do who does a procedure by hand, line by line; what Barrow only reads or compares is left out. */
export function linesByHand(procedure: Procedure, given: Readonly<Record<string, string>> = {}): string[] {
  const filled = (template: string): string =>
    template.replace(/\$\{([^}|]+)(\|[^}]*)?\}/g, (_, name: string) => given[name] ?? `‹${name}›`);
  const oneOf = (step: ProcedureStep): string[] => {
    if ('say' in step) return [`type: ${filled(step.say)}`];
    if ('request' in step) return [`${step.method} ${filled(step.request)}${step.body === undefined ? '' : ` with ${filled(step.body)}`}`];
    if ('upload' in step)
      return [`send each file to ${step.as ? 'its boot loader, as ' : ''}${filled(step.upload)} by ${words[step.over]}`];
    if ('sip' in step) return [`send it SIP ${step.sip}${step.event === undefined ? '' : ` ${step.event}`}`];
    if ('fetched' in step) return ['wait until it has fetched the image'];
    if ('onvif' in step) return [`call the ONVIF operation ${step.onvif}`];
    if ('ask' in step) return [`find out: ${step.ask.words}`];
    if ('snmp' in step)
      return 'set' in step.snmp ? step.snmp.set.map(({ oid, value }) => `set by SNMP ${filled(oid)} to ${filled(value)}`) : [];
    if ('eachFile' in step) return step.eachFile.flatMap(oneOf).map((line) => `each file: ${line}`);
    if ('repeat' in step) return step.do.flatMap(oneOf).map((line) => `again and again: ${line}`);
    if ('do' in step) return step.do.flatMap(oneOf);
    return [];
  };
  return procedure.do.flatMap(oneOf);
}

const words = { 'http-form': 'its form', 'http-body': 'HTTP', sftp: 'SFTP', scp: 'SCP', tftp: 'TFTP' } as const;
