/** Longest text kept from one answer of a device; the rest is cut and said to be cut. */
export const longestAnswer = 4096;

/**
 * Makes a device's text fit to be shown: control characters become visible escapes, and it is cut at `limit`.
 * Line feeds and tabs stay. Nothing that a device says can then move a cursor or hide a line.
 */
export function safeText(text: string, limit = longestAnswer): string {
  const cut = text.length > limit ? `${text.slice(0, limit)}… (${text.length - limit} more)` : text;
  // eslint-disable-next-line no-control-regex
  return cut.replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g, (c) =>
    c === '\r' ? '' : `\\x${c.charCodeAt(0).toString(16).padStart(2, '0')}`,
  );
}
