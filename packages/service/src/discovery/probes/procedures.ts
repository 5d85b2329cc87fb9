import { CauseError, type Approval, type ShownHost } from '@barrow/core';
import {
  asCause,
  hasShell,
  needsPageLogin,
  usesShell,
  usesWeb,
  type ProcedureName,
  type ProcedureResult,
  type Web,
} from '@barrow/families';
import { PageSession } from '@barrow/wire';
import type { Context } from '../../context.js';
import { httpAccess, pageLogin } from '../../touch/access.js';
import { carryOut } from '../../touch/procedure.js';
import { openShell } from '../../touch/shell.js';
import { awaitingDetail, usable } from '../../touch/sparing.js';
import type { Access } from '../access.js';
import type { CredentialRow } from '../../data/entities.js';
import { patiently } from '../patience.js';
import type { Reading } from '../reading.js';
import { givenUp, webTarget } from './web.js';

/** What is known of the host at an address from before: the key that is pinned, and whether passwords may go to it. */
export interface KnownHost {
  readonly pinned: string | null;
  readonly approval: (protocol: 'ssh' | 'http') => Approval | null;
}

const shownBy = (reading: Reading, { pinned }: KnownHost): ShownHost => ({
  address: reading.address,
  // A key that could not be read now is proven when the connection is made.
  hostKey: reading.hostKey ?? pinned,
  family: reading.recognised?.family.family ?? null,
});

/** Parts credentials into those that this host may get, and those that wait; in a network that is trusted now, none do. */
function sorted(
  reading: Reading,
  host: KnownHost,
  protocol: 'ssh' | 'http',
  candidates: readonly CredentialRow[],
): ReturnType<typeof usable> {
  if (reading.network.trustNow) return { may: [...candidates], withheld: [] };
  return usable(candidates, host.approval(protocol), protocol, shownBy(reading, host));
}

/** Notes what a run would have to send and may not yet, so that a person can look at the host before the run. */
function noteWithheld(access: Access, reading: Reading, host: KnownHost): void {
  const family = reading.recognised!.family;
  const procedures = Object.values(family.procedures);
  for (const [protocol, isAsked] of [
    ['ssh', hasShell(family) && procedures.some((p) => usesShell(p))],
    ['http', procedures.some((p) => usesWeb(p))],
  ] as const) {
    if (!isAsked) continue;
    const { may, withheld } = sorted(reading, host, protocol, access.candidates(protocol, reading.network, reading.address));
    if (may.length === 0) reading.withheld.push(...withheld.map((c) => c.name));
  }
}

/** Carries out a procedure that only asks, over the device's shell or its pages; null when nobody may. Tells why in the reading. */
async function ask(
  context: Context,
  access: Access,
  reading: Reading,
  name: ProcedureName,
  host: KnownHost,
  signal: AbortSignal,
): Promise<ProcedureResult | null> {
  const { address, network } = reading;
  const { family } = reading.recognised!;
  const procedure = family.procedures[name]!;
  const overShell = usesShell(procedure);
  const protocol = overShell ? 'ssh' : 'http';
  const probe = overShell ? 'SSH login' : 'web login';
  const { may: candidates, withheld } = sorted(reading, host, protocol, access.candidates(protocol, network, address));
  const names = withheld.map((c) => c.name);
  const waits = { probe, cause: 'awaiting-approval', detail: awaitingDetail(shownBy(reading, host), names) };
  if (candidates.length === 0 && withheld.length > 0) {
    reading.troubles.push(waits);
    return null;
  }
  if (candidates.length === 0) {
    const none = `its network names no ${overShell ? 'SSH' : 'HTTP'} credential, which its family needs to tell ${name === 'children' ? 'what it manages' : 'more'}`;
    reading.troubles.push({ probe, ...access.whyNone(protocol, reading, none) });
    return null;
  }
  for (const [index, credential] of candidates.entries()) {
    let result: ProcedureResult | 'next' | 'over' | null;
    try {
      result = await access.inTurn(credential, () => once(context, reading, name, host, credential, protocol, signal));
      if (result !== null && result !== 'over') context.doubts.forget(credential.id);
    } catch (error) {
      const cause = asCause(error);
      if (!(cause instanceof CauseError)) throw error;
      if (signal.aborted) return null;
      if (cause.code === 'login-refused') await access.refused(credential, protocol, address);
      // The next credential may be the right one; only when none is, it is a trouble.
      result = cause.code === 'login-refused' && index < candidates.length - 1 ? 'next' : 'over';
      if (result === 'over' && cause.code === 'login-refused' && withheld.length > 0) {
        // What is left to try waits for a person.
        reading.troubles.push(waits);
        reading.withheld.push(...names);
      } else if (result === 'over') {
        const isGivenUp = cause.code === 'login-refused' && access.isSuspended(credential);
        reading.troubles.push({ probe, cause: isGivenUp ? 'credential-suspended' : cause.code, detail: cause.detail });
      }
    }
    if (result === null) reading.troubles.push(givenUp(probe, credential));
    else if (result === 'over') return null;
    else if (result !== 'next') return result;
  }
  return null;
}

/** One procedure with one credential. @throws CauseError, WireError */
async function once(
  context: Context,
  reading: Reading,
  name: ProcedureName,
  host: KnownHost,
  credential: CredentialRow,
  protocol: 'ssh' | 'http',
  signal: AbortSignal,
): Promise<ProcedureResult | 'over'> {
  const { address, network } = reading;
  const { family } = reading.recognised!;
  if (protocol === 'ssh') {
    if (!hasShell(family)) return 'over';
    // What shows itself otherwise at the login than it did when it was looked at gets nothing.
    const at = { host: address, port: network.sshPort, hostKey: host.pinned ?? reading.hostKey };
    const { shell, secrets } = await openShell(context, at, family, credential, signal);
    try {
      reading.hostKey ??= shell.hostKey;
      const found = await carryOut(context, family, name, { shell, web: null, secrets }, { signal });
      reading.credentials['ssh'] = credential.id;
      return found;
    } finally {
      shell.close();
    }
  }
  const login = httpAccess(context, credential);
  const secure = reading.seen.some((s) => s.probe === 'HTTPS') && !reading.seen.some((s) => s.probe === 'HTTP');
  const pages = new PageSession();
  const target = (ms: number) => webTarget(reading, secure, login, signal, ms);
  const web: Web = {
    get: (path, limit, headers) => patiently(limit, (ms) => pages.ask(target(ms), path, { headers })),
    // Not asked twice: it may do something.
    ask: ({ path, ...request }, limit) => pages.ask(target(limit), path, request),
  };
  const word = context.sealer.open(credential.sealed);
  const secrets = [word, encodeURIComponent(word)];
  const given = needsPageLogin(family.procedures[name]!) ? (pageLogin(context, [credential]) ?? {}) : {};
  const found = await carryOut(context, family, name, { shell: null, web, secrets }, { signal, given });
  reading.credentials['http'] = credential.id;
  return found;
}

/** What a family's own procedures add: what the device is when the standards do not tell, its children, its outlets. */
export async function probeFamily(context: Context, access: Access, reading: Reading, host: KnownHost, signal: AbortSignal): Promise<void> {
  const family = reading.recognised?.family;
  if (!family) return;
  noteWithheld(access, reading, host);
  const { procedures } = family;
  const knows = (field: 'firmware' | 'serial'): boolean => reading.findings.some((f) => (f.values[field] ?? '') !== '');
  const model = reading.findings.find((f) => f.values.model)?.values.model ?? null;
  // Twins that take different files are told apart by nothing but the device's own word.
  const hasTwin = new Set(family.models.filter((m) => m.model === model).map((m) => m.variant)).size > 1;
  const standardsTell = knows('firmware') && knows('serial');
  // What is asked without a login was asked by the probes of the standards.
  const tellsMore = procedures.record !== undefined && (usesShell(procedures.record) || usesWeb(procedures.record));
  if (procedures.record && tellsMore && (hasTwin || !standardsTell)) {
    const found = await ask(context, access, reading, 'record', host, signal);
    if (found) {
      const { name, model, hardwareRevision, variant, serial, mac, firmware, bootLoader } = found.gives;
      const probe = usesShell(procedures.record) ? 'SSH login' : 'web login';
      const free = found.gives['freeBytes'] ?? '';
      if (/^\d+$/.test(free)) reading.shows = { ...reading.shows, freeBytes: Number(free) };
      const told = { probe, values: { name, maker: family.maker, model, hardwareRevision, variant, serial, mac, firmware, bootLoader } };
      // Asked only for its variant, it adds to what the standards told; otherwise its word comes first.
      if (standardsTell) reading.findings.push(told);
      else reading.findings.unshift(told);
      reading.seen.push({ probe, raw: { ...found.gives }, parsed: { ...found.gives } });
    }
  }
  if (procedures.children) {
    const found = await ask(context, access, reading, 'children', host, signal);
    reading.children = found?.tables['children'] ?? null;
    if (reading.children)
      reading.seen.push({ probe: 'what it manages', raw: { rows: reading.children }, parsed: { count: reading.children.length } });
  }
  if (procedures.neighbours) {
    const found = await ask(context, access, reading, 'neighbours', host, signal);
    const outlets = found?.tables['outlets'];
    if (outlets) {
      reading.outlets = outlets.map((o) => ({ outlet: o['outlet'] ?? '', label: o['label'] ?? '' }));
      reading.seen.push({ probe: 'outlets', raw: { outlets }, parsed: { count: outlets.length } });
    }
  }
}
