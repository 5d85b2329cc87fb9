/** How deep objects and lists may lie in each other; no document of ours is deeper than two dozen. */
const deepest = 100;

/** How deep JSON text (RFC 8259) goes, without reading it into objects. */
export function depthOf(text: string): number {
  let depth = 0;
  let most = 0;
  let inText = false;
  for (let i = 0; i < text.length; i++) {
    const c = text.charCodeAt(i);
    if (inText) {
      // A reverse solidus, and what it escapes.
      if (c === 92) i++;
      else if (c === 34) inText = false;
    } else if (c === 34) inText = true;
    else if (c === 123 || c === 91) most = Math.max(most, ++depth);
    else if (c === 125 || c === 93) depth--;
  }
  return most;
}

/** Why JSON text is not to be read: deeper than any reader of ours should walk, or with what no table can keep; null when it may be. */
export function jsonFault(text: string): string | null {
  const depth = depthOf(text);
  if (depth > deepest) return `it is ${depth} levels deep, ${deepest} is the most`;
  if (text.includes('\u0000') || /(?<!\\)(?:\\\\)*\\u0000/.test(text)) return 'it holds the character NUL, which no text has';
  return null;
}
