import type { CredentialKind } from '@barrow/core';
import type { HttpAccess, ShellTarget, SnmpTarget } from '@barrow/wire';
import type { Context } from '../context.js';
import type { CredentialRow } from '../data/entities.js';

/** The protocols of credentials; one credential is remembered for each. */
export type Protocol = 'snmp' | 'ssh' | 'http' | 'onvif';
export const kindsOf: Record<Protocol, readonly CredentialKind[]> = {
  snmp: ['snmp-v2c', 'snmp-v3'],
  ssh: ['ssh-password', 'ssh-key'],
  http: ['http-basic', 'http-digest', 'http-token'],
  onvif: ['onvif'],
};

export function snmpAccess(context: Context, credential: CredentialRow): SnmpTarget['access'] {
  const secret = context.sealer.open(credential.sealed);
  if (credential.kind === 'snmp-v2c') return { community: secret };
  return {
    user: {
      name: credential.user ?? '',
      auth: credential.settings.auth ?? 'sha256',
      authKey: secret,
      privKey: credential.second === null ? null : context.sealer.open(credential.second),
    },
  };
}

export function httpAccess(context: Context, credential: CredentialRow): HttpAccess {
  const secret = context.sealer.open(credential.sealed);
  if (credential.kind === 'http-token') return { how: 'token', token: secret };
  return { how: credential.kind === 'http-digest' ? 'digest' : 'basic', user: credential.user ?? '', password: secret };
}

/**
 * The login for a page with a form, as procedures are given it. A form sends the password in clear to the device: only a
 * credential of the kind `http-basic` may go there.
 */
export function pageLogin(context: Context, credentials: readonly CredentialRow[]): { pageUser: string; pageWord: string } | null {
  const one = credentials.find((c) => c.kind === 'http-basic');
  return one ? { pageUser: one.user ?? '', pageWord: context.sealer.open(one.sealed) } : null;
}

/** A login over SSH with a credential of ours. */
export function sshTargetOf(
  context: Context,
  credential: CredentialRow,
  at: { readonly host: string; readonly port: number; readonly hostKey: string | null },
): ShellTarget {
  const secret = context.sealer.open(credential.sealed);
  const second = credential.second === null ? undefined : context.sealer.open(credential.second);
  return {
    ...at,
    username: credential.user ?? '',
    ...(credential.kind === 'ssh-key' ? { privateKey: secret, passphrase: second } : { password: secret }),
    readyTimeoutMs: 10_000,
  };
}
