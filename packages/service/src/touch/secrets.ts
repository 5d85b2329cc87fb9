import { CauseError, pattern } from '@barrow/core';
import { asCause, hidden, type Family } from '@barrow/families';

export { hideSecrets } from '@barrow/families';

/** Shorter ones stand in ordinary words; to hide them would hide those. */
const shortestSecret = 4;
/** Longer ones, such as private keys, are not typed into a shell. */
const longestEchoed = 200;

/** Lines of settings that hold a secret on most devices, whatever a family file says of them. */
export const secretLines: readonly string[] = [
  '(?i)(?:^|[^A-Za-z])(?:password|passwd|passphrase|pass-phrase|secret|watchword|community|psk|pre-shared-key|private-key|auth-key|token)\\b[\\s:="]+(?P<secret>\\S+)',
];

/** What terminals put into an echo where a line is full: line ends, a space before them, and sequences of ECMA-48. */
const wrapping = String.raw`(?: ?(?:\r|\\r)(?:\n|\\n)?|\n|\\n|(?:\x1b|\\x1b|\\u001b)\[[0-9;?]*[A-Za-z]|\x08)*`;
const escaped = (c: string): string => c.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');

/**
 * Hides secrets that are known by their very letters, e.g. a second word that a device echoed, also where the terminal wrapped
 * the echo.
 */
export function hideWords(text: string, secrets: readonly string[]): string {
  let clean = text;
  for (const secret of secrets) {
    if (secret.length < shortestSecret) continue;
    clean = clean.replaceAll(secret, hidden);
    // eslint-disable-next-line no-control-regex
    if (secret.length <= longestEchoed && /[\r\n\x08\x1b\\]/.test(clean))
      clean = clean.replace(new RegExp([...secret].map(escaped).join(wrapping), 'g'), hidden);
  }
  return clean;
}

/**
 * The one place through which the detail of every failure passes before anybody keeps, logs or shows it. Words of a
 * device stand in the middle of a sentence there, with their line ends written out.
 */
export function hideInDetail(detail: string, family: Family | null, secrets: readonly string[]): string {
  const rules = (family?.configuration?.secrets ?? []).map((source) => pattern(source.replace(/^\^/, '')));
  return hideWords(detail, secrets)
    .split(/(\\r\\n|\\n|\\r|\r?\n|")/)
    .map((piece) => {
      for (const rule of rules) {
        const match = rule.matcher(piece);
        if (!match.find()) continue;
        const secret = match.group('secret');
        if (secret) return piece.replace(secret, () => hidden);
      }
      return piece;
    })
    .join('');
}

/** The same failure, with nothing secret in its detail. */
export function withoutSecrets(error: unknown, family: Family | null, secrets: readonly string[]): Error {
  const cause = asCause(error);
  if (!(cause instanceof CauseError)) return cause;
  const detail = hideInDetail(cause.detail, family, secrets);
  return detail === cause.detail ? cause : new CauseError(cause.code, detail);
}
