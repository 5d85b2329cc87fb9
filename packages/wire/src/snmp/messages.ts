import { BerReader, BerWriter } from 'asn1-ber';
import type { Question } from '../sweep/sweep.js';
import { readable } from './client.js';

const getRequest = 0xa0;
const response = 0xa2;

/** RFC 3416 §4.2.1 in the message of RFC 1901: version 1 (v2c), community, GetRequest-PDU. */
export function encodeGet(community: string, requestId: number, oids: readonly string[]): Buffer {
  const ber = new BerWriter();
  ber.startSequence();
  ber.writeInt(1);
  ber.writeString(community);
  writePdu(ber, requestId, oids);
  ber.endSequence();
  return ber.buffer;
}

function writePdu(ber: BerWriter, requestId: number, oids: readonly string[]): void {
  ber.startSequence(getRequest);
  ber.writeInt(requestId);
  ber.writeInt(0);
  ber.writeInt(0);
  ber.startSequence();
  for (const oid of oids) {
    ber.startSequence();
    ber.writeOID(oid);
    ber.writeNull();
    ber.endSequence();
  }
  ber.endSequence();
  ber.endSequence();
}

/** Reads a Response-PDU; null for anything that is not one, whatever is wrong with it. */
export function decodeResponse(datagram: Buffer): { requestId: number; values: Map<string, string | number> } | null {
  try {
    const ber = new BerReader(datagram);
    if (ber.readSequence() === null || ber.readInt() !== 1) return null;
    ber.readString(4, true);
    if (ber.readSequence(response) === null) return null;
    const requestId = ber.readInt();
    if (ber.readInt() !== 0) return { requestId, values: new Map() };
    ber.readInt();
    if (ber.readSequence() === null) return null;
    const values = new Map<string, string | number>();
    const end = ber.offset + ber.length;
    // Each round must move on, and there are never more than we would ask for: lengths in a datagram may lie.
    for (let rounds = 0, at = -1; ber.offset < end && rounds < 64; rounds++) {
      if (ber.offset <= at) return null;
      at = ber.offset;
      if (ber.readSequence() === null) return null;
      const oid = ber.readOID();
      const tag = ber.peek();
      if (tag === null) return null;
      if (tag === 0x04) values.set(oid, readable(ber.readString(0x04, true)));
      else if (tag === 0x06) values.set(oid, ber.readOID());
      else if (tag === 0x02 || tag === 0x41 || tag === 0x42 || tag === 0x43) values.set(oid, ber.readInt(tag) >>> 0);
      else ber.readString(tag, true);
    }
    return { requestId, values };
  } catch {
    return null;
  }
}

/** Asks for a few objects by SNMP v2c; the answer is a map of them. */
export function snmpQuestion(
  port: number,
  community: string,
  oids: readonly string[],
  name = 'SNMP v2c',
): Question<Map<string, string | number>> {
  return {
    name,
    port,
    group: 'snmp-v2c',
    encode: (id) => encodeGet(community, id, oids),
    decode: (datagram) => {
      const read = decodeResponse(datagram);
      return read === null ? null : { id: read.requestId, answer: read.values };
    },
  };
}

/**
 * RFC 3414 §4: a request without engine ID is answered by a report that tells it, to anybody.
 * RFC 3412 §6: msgID, msgMaxSize, msgFlags (reportable), msgSecurityModel (3, USM).
 */
export function encodeEngineProbe(messageId: number): Buffer {
  const usm = new BerWriter();
  usm.startSequence();
  usm.writeString('');
  usm.writeInt(0);
  usm.writeInt(0);
  usm.writeString('');
  usm.writeString('');
  usm.writeString('');
  usm.endSequence();
  const ber = new BerWriter();
  ber.startSequence();
  ber.writeInt(3);
  ber.startSequence();
  ber.writeInt(messageId);
  ber.writeInt(65_507);
  ber.writeBuffer(Buffer.from([4]), 4);
  ber.writeInt(3);
  ber.endSequence();
  ber.writeBuffer(usm.buffer, 4);
  ber.startSequence();
  ber.writeString('');
  ber.writeString('');
  writePdu(ber, messageId, []);
  ber.endSequence();
  ber.endSequence();
  return ber.buffer;
}

/** The engine ID that a report tells, in hexadecimal; null for anything else. */
export function decodeEngineReport(datagram: Buffer): { messageId: number; engineId: string; boots: number } | null {
  try {
    const ber = new BerReader(datagram);
    if (ber.readSequence() === null || ber.readInt() !== 3) return null;
    if (ber.readSequence() === null) return null;
    const messageId = ber.readInt();
    ber.readInt();
    ber.readString(4, true);
    if (ber.readInt() !== 3) return null;
    const usm = new BerReader(ber.readString(4, true));
    if (usm.readSequence() === null) return null;
    const engineId = usm.readString(4, true);
    // RFC 3411 §5: 5 to 32 octets.
    if (engineId.length < 5 || engineId.length > 32) return null;
    return { messageId, engineId: `0x${engineId.toString('hex')}`, boots: usm.readInt() };
  } catch {
    return null;
  }
}

/** Asks for the SNMP v3 engine ID, which needs no credential. */
export function engineQuestion(port: number): Question<{ engineId: string; boots: number }> {
  return {
    name: 'SNMP v3 engine',
    port,
    group: 'snmp-v3',
    encode: (id) => encodeEngineProbe(id),
    decode: (datagram) => {
      const read = decodeEngineReport(datagram);
      return read === null ? null : { id: read.messageId, answer: { engineId: read.engineId, boots: read.boots } };
    },
  };
}
