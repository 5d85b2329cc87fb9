import { pattern } from '@barrow/core';
import type { Family } from './schema/shape.js';

/** What stands where something secret stood. */
export const hidden = '‹hidden›';

/**
 * Hides what lines of a text have that is secret.
 *
 * @param sources patterns (RE2) of whole lines, each with a group `secret`
 */
export function hideInLines(text: string, sources: readonly string[]): string {
  if (sources.length === 0) return text;
  return text
    .split('\n')
    .map((line) => {
      for (const source of sources) {
        // A compared configuration marks its lines with +, - or a space.
        const lead = /^[+ -]?/.exec(line)![0];
        for (const from of new Set([0, lead.length])) {
          const body = line.slice(from).trimEnd();
          const match = pattern(source).matcher(body);
          if (!match.find()) continue;
          const secret = match.group('secret');
          if (secret) return line.slice(0, from) + body.replace(secret, () => hidden);
        }
      }
      return line;
    })
    .join('\n');
}

/** Hides what the family calls secret in the text of a device: settings, their differences, a conversation. */
export const hideSecrets = (text: string, family: Pick<Family, 'configuration'>): string =>
  hideInLines(text, family.configuration?.secrets ?? []);
