import type { Question } from '../sweep/sweep.js';
import { findXml, readXml, textOf } from './xml.js';

export interface ProbeMatch {
  readonly endpoint: string | null;
  readonly types: readonly string[];
  readonly scopes: readonly string[];
  /** Where its services are. */
  readonly addresses: readonly string[];
}

const uuid = (id: number): string => `urn:uuid:00000000-0000-4000-8000-${id.toString(16).padStart(12, '0')}`;

/** A Probe of WS-Discovery (2005/04) §5.2 for ONVIF devices, sent to one address instead of the multicast group. */
export function encodeProbe(id: number): Buffer {
  return Buffer.from(
    `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><s:Header><a:MessageID>${uuid(id)}</a:MessageID><a:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</a:To><a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</a:Action></s:Header><s:Body><d:Probe><d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe></s:Body></s:Envelope>`,
  );
}

/** Reads a ProbeMatches that relates to a probe of ours; null for anything else. */
export function decodeProbeMatch(datagram: Buffer): { id: number; answer: ProbeMatch } | null {
  const xml = readXml(datagram.toString('utf8'));
  const relates = textOf(xml, 'RelatesTo');
  const id = relates === null ? null : /^urn:uuid:00000000-0000-4000-8000-([0-9a-f]{12})$/.exec(relates);
  const match = findXml(xml, 'ProbeMatch');
  if (!id || match === null) return null;
  const words = (name: string): string[] =>
    (textOf(match, name) ?? '')
      .split(/\s+/)
      .filter((w) => w !== '')
      .slice(0, 50);
  return {
    id: parseInt(id[1]!, 16),
    answer: { endpoint: textOf(match, 'Address'), types: words('Types'), scopes: words('Scopes'), addresses: words('XAddrs') },
  };
}

export const probeQuestion = (port: number): Question<ProbeMatch> => ({
  name: 'WS-Discovery',
  port,
  group: 'ws-discovery',
  encode: encodeProbe,
  decode: decodeProbeMatch,
});
