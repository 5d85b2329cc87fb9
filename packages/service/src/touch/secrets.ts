import { CauseError, pattern } from '@barrow/core';
import { asCause, hidden, type Family } from '@barrow/families';

export { hideSecrets } from '@barrow/families';

/** Shorter ones stand in ordinary words; to hide them would hide those. */
const shortestSecret = 4;

/** Hides secrets that are known by their very letters, e.g. a second word that a device echoed. */
export function hideWords(text: string, secrets: readonly string[]): string {
  let clean = text;
  for (const secret of secrets) if (secret.length >= shortestSecret) clean = clean.replaceAll(secret, hidden);
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
