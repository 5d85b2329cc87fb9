import type { CredentialKind } from '../api/shapes.js';

/** A person's word that a host is the device that it seems to be, so that passwords may be sent to it. */
export interface Approval {
  /** The SSH host key that it showed then (SHA-256 fingerprint, RFC 4253 §4.1); null: it showed none. */
  readonly hostKey: string | null;
  /** Where it was then. */
  readonly address: string;
  /** The family as which it was recognised then. */
  readonly family: string | null;
  /** Milliseconds since 1970. */
  readonly at: number;
  /** Who said so, or how it came to be trusted. */
  readonly by: string;
}

/**
 * Kinds of credentials that whoever answers gets to read: a password over SSH (RFC 4252 §8), basic login and tokens over HTTP
 * (RFC 7617, RFC 6750). Keys, SNMP v3, digest (RFC 7616) and WS-Security digests prove a secret without telling it.
 */
const toldInFull: ReadonlySet<string> = new Set<CredentialKind>(['ssh-password', 'http-basic', 'http-token']);

/** Whether a credential waits until a person has approved the host that would get it. */
export const waitsForApproval = (kind: string): boolean => toldInFull.has(kind);

/** Who answers, as far as it shows before a login. */
export interface ShownHost {
  readonly address: string;
  /** Its SSH host key; null: not read, or it has none. */
  readonly hostKey: string | null;
  readonly family: string | null;
}

/**
 * Whether the approval is of this host. A host key proves the host, wherever it is; pages without one are known by their
 * address and by what they seem to be.
 */
export function isApproved(approval: Approval | null, protocol: 'ssh' | 'http', host: ShownHost): boolean {
  if (approval === null) return false;
  if (protocol === 'ssh' && approval.hostKey !== null) return host.hostKey === approval.hostKey;
  return host.address === approval.address && host.family === approval.family;
}
