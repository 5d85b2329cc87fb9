import type { CredentialRow } from '../data/entities.js';
import { kindsOf, type Protocol } from './access.js';

/** What a choice is made from. */
export interface Choice {
  /** Credentials by id, in any order. */
  readonly all: ReadonlyMap<string, CredentialRow>;
  /** Ids that the network names, in its order. */
  readonly named: readonly string[];
  /** The id of what worked here last; null when nothing did. */
  readonly worked: string | null;
  /** Whether one was refused here lately, and is not to be tried again yet. */
  readonly isRefused: (credential: CredentialRow) => boolean;
}

/**
 * What may be tried at a device, in its order: of what its network names, first what worked there last. A credential that the
 * network does not name is never sent. What was refused there is left alone, so that no account is locked by us; one that was
 * put in anew since then may be tried.
 */
export function choose(protocol: Protocol, { all, named, worked, isRefused }: Choice): { may: CredentialRow[]; left: CredentialRow[] } {
  const kinds: readonly string[] = kindsOf[protocol];
  const [may, left]: [CredentialRow[], CredentialRow[]] = [[], []];
  for (const id of new Set([...named.filter((id) => id === worked), ...named])) {
    const credential = all.get(id);
    if (credential && kinds.includes(credential.kind)) (isRefused(credential) ? left : may).push(credential);
  }
  return { may, left };
}

/** What is said where nothing is tried since all of it was refused. */
export const leftDetail = (names: readonly string[]): string => `${names.join(', ')} was refused here before and is not tried again yet`;
