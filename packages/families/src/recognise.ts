import { pattern } from '@barrow/core';
import type { Family } from './schema/shape.js';

/** Everything that probes heard, by probe; what was not heard is absent or null. */
export interface Heard {
  readonly snmp?: { readonly objectId: string | null; readonly description: string | null };
  readonly ssh?: { readonly identification: string | null };
  readonly http?: { readonly server: string | null; readonly realm: string | null; readonly title: string | null };
  readonly onvif?: { readonly manufacturer: string | null; readonly model: string | null; readonly hardware: string | null };
  readonly sip?: { readonly userAgent: string | null; readonly server: string | null };
  readonly lldp?: { readonly maker: string | null; readonly model: string | null; readonly description: string | null };
}

export interface Recognised {
  readonly family: Family;
  /** By which evidence, in words. */
  readonly evidence: string;
  /** What the rule's patterns caught by name, such as `model` and `firmware`. */
  readonly caught: Readonly<Record<string, string>>;
}

const words: Record<string, string> = {
  'snmp.objectId': 'SNMP object ID',
  'snmp.description': 'SNMP description',
  'ssh.identification': 'SSH identification',
  'http.server': 'HTTP Server header',
  'http.realm': 'HTTP realm',
  'http.title': 'page title',
  'onvif.manufacturer': 'ONVIF manufacturer',
  'onvif.model': 'ONVIF model',
  'onvif.hardware': 'ONVIF hardware scope',
  'sip.userAgent': 'SIP User-Agent',
  'sip.server': 'SIP Server',
  'lldp.maker': 'LLDP-MED maker',
  'lldp.model': 'LLDP-MED model',
  'lldp.description': 'LLDP description',
};

/** Finds the family whose rule says most about what was heard; null when none fits. */
export function recognise(families: Iterable<Family>, heard: Heard): Recognised | null {
  let best: (Recognised & { weight: number }) | null = null;
  /** Of each family that fits, by which evidence. */
  const fitting = new Map<Family, string>();
  for (const family of families)
    for (const rule of family.recognise) {
      const caught: Record<string, string> = {};
      const evidence: string[] = [];
      let weight = 0;
      let fits = true;
      for (const [probe, patterns] of Object.entries(rule))
        for (const [part, source] of Object.entries(patterns as Record<string, string>)) {
          const text = (heard[probe as keyof Heard] as Record<string, string | null> | undefined)?.[part] ?? null;
          const match = text === null ? null : pattern(source).matcher(text);
          if (!match?.find()) {
            fits = false;
            continue;
          }
          for (const [name, value] of Object.entries(match.getNamedGroups() as Record<string, string | null>))
            if (value !== null) caught[name] ??= value;
          evidence.push(`${words[`${probe}.${part}`]} matches ${source}`);
          // More evidence wins; of equal evidence, the longer pattern is the narrower one.
          weight += 1000 + source.length;
        }
      if (fits && evidence.length > 0) fitting.set(family, evidence.join(' and '));
      if (fits && evidence.length > 0 && (best === null || weight > best.weight))
        best = { family, weight, evidence: evidence.join(' and '), caught };
    }
  if (best === null || fitting.size === 1) return best;
  // Who wrote the files has to decide; until then the one that says more is taken.
  const others = [...fitting].flatMap(([f, why]) => (f === best.family ? [] : [`${f.family} fits too, and says less: ${why}`]));
  return { ...best, evidence: [best.evidence, ...others].join('; ') };
}
