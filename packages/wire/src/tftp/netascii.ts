import { errorCodes } from './packets.js';

/**
 * A text as netascii carries it (RFC 1350 §1, RFC 764): a line end is CR LF, a bare carriage return is CR NUL.
 * An image is never sent so; what asks for it is a device that fetches settings, or one that is set up wrongly.
 */
export function toNetascii(text: Buffer): Buffer {
  let more = 0;
  for (const octet of text) if (octet === 10 || octet === 13) more++;
  const out = Buffer.allocUnsafe(text.length + more);
  let at = 0;
  for (const octet of text) {
    if (octet === 10) out[at++] = 13;
    out[at++] = octet;
    if (octet === 13) out[at++] = 0;
  }
  return out;
}

/** The text again; a CR that is followed by neither LF nor NUL stands for itself. */
export function fromNetascii(text: Buffer): Buffer {
  const out = Buffer.allocUnsafe(text.length);
  let at = 0;
  for (let i = 0; i < text.length; i++) {
    const octet = text[i]!;
    const next = text[i + 1];
    if (octet === 13 && next === 10) continue;
    out[at++] = octet;
    if (octet === 13 && next === 0) i++;
  }
  return out.subarray(0, at);
}

/** The largest file that is sent in netascii: it is held in memory while it goes. */
export const largestNetascii = 1 << 20;

/** What is told to who asks for a larger one. */
export const octetOnly = {
  kind: 'refuse',
  code: errorCodes.undefined,
  message: 'this file goes in octet mode only; netascii would change it',
} as const;
