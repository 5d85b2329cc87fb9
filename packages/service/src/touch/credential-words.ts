import type { Context } from '../context.js';
import { CredentialEntity, type CredentialRow } from '../data/entities.js';

/** The passwords and other secrets of these credentials, in clear. */
export const wordsOf = (sealer: Context['sealer'], credentials: readonly CredentialRow[]): string[] =>
  credentials.flatMap((one) =>
    [one.sealed, one.second, one.raise].filter((sealed) => sealed !== null).map((sealed) => sealer.open(sealed)),
  );

/** Every secret of every credential, also as forms encode it: none may stand in what is kept or answered. */
export async function everyWord({ db, sealer }: Pick<Context, 'db' | 'sealer'>): Promise<string[]> {
  const words = wordsOf(sealer, await db.kept(CredentialEntity));
  return [...new Set(words.flatMap((word) => [word, encodeURIComponent(word)]))];
}
