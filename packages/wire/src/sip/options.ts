import type { Question } from '../sweep/sweep.js';

export interface SipAnswer {
  readonly status: number;
  readonly reason: string;
  /** RFC 3261 §20.41, what a user agent client says of itself. */
  readonly userAgent: string | null;
  /** RFC 3261 §20.35, what a server says of itself. */
  readonly server: string | null;
  readonly allow: string | null;
}

const longestHeader = 400;

/** OPTIONS of RFC 3261 §11; the Call-ID carries the id. */
export function encodeOptions(id: number, address: string): Buffer {
  const host = address.includes(':') ? `[${address}]` : address;
  return Buffer.from(
    [
      `OPTIONS sip:${host} SIP/2.0`,
      // §8.1.1.7: a branch begins with z9hG4bK; rport (RFC 3581) lets the answer come back to where this was sent from.
      `Via: SIP/2.0/UDP barrow.invalid;branch=z9hG4bK${id};rport`,
      'Max-Forwards: 70',
      `From: <sip:barrow@barrow.invalid>;tag=${id}`,
      `To: <sip:${host}>`,
      `Call-ID: ${id}@barrow.invalid`,
      `CSeq: 1 OPTIONS`,
      `Contact: <sip:barrow@barrow.invalid>`,
      'Accept: application/sdp',
      'Content-Length: 0',
      '',
      '',
    ].join('\r\n'),
  );
}

/** Reads a response to OPTIONS, whatever its status; null for anything else. */
export function decodeOptions(datagram: Buffer): { id: number; answer: SipAnswer } | null {
  const lines = datagram.subarray(0, 8192).toString('utf8').split(/\r?\n/);
  const status = /^SIP\/2\.0 ([1-6]\d\d) ?(.*)$/.exec(lines[0] ?? '');
  if (!status) return null;
  const headers = new Map<string, string>();
  for (const line of lines.slice(1, 100)) {
    if (line === '') break;
    const colon = line.indexOf(':');
    if (colon > 0)
      headers.set(
        line.slice(0, colon).trim().toLowerCase(),
        line
          .slice(colon + 1)
          .trim()
          .slice(0, longestHeader),
      );
  }
  // §7.3.3: `i` is the compact form of Call-ID.
  const id = /^(\d{1,10})@barrow\.invalid$/.exec(headers.get('call-id') ?? headers.get('i') ?? '');
  if (!id) return null;
  return {
    id: Number(id[1]),
    answer: {
      status: Number(status[1]),
      reason: status[2]!.slice(0, longestHeader),
      userAgent: headers.get('user-agent') ?? null,
      server: headers.get('server') ?? null,
      allow: headers.get('allow') ?? null,
    },
  };
}

export const optionsQuestion = (port: number): Question<SipAnswer> => ({
  name: 'SIP OPTIONS',
  port,
  group: 'sip',
  encode: encodeOptions,
  decode: decodeOptions,
});
