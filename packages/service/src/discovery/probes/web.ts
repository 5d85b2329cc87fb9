import { safeText } from '@barrow/core';
import { askHttp, onvifInformation, readChallenges, titleOf, WireError, type HttpAccess, type HttpTarget } from '@barrow/wire';
import type { Context } from '../../context.js';
import { suspendedDetail, type Access } from '../access.js';
import type { CredentialRow } from '../../data/entities.js';
import { patiently } from '../patience.js';
import type { Reading, Swept, Trouble } from '../reading.js';
import { causeOf } from './snmp.js';

const pageMs = 4000;
const rawPage = 2000;

export const webTarget = (
  reading: Pick<Reading, 'address' | 'network'>,
  secure: boolean,
  access: HttpAccess | null,
  signal: AbortSignal | undefined,
  timeoutMs = pageMs,
): HttpTarget => ({
  host: reading.address,
  port: secure ? reading.network.httpsPort : reading.network.httpPort,
  secure,
  access,
  timeoutMs,
  ...(signal ? { signal } : {}),
});

/** Reads the first page without logging in: status, Server, realm, title, certificate. */
export async function probeHttp(reading: Reading, secure: boolean, signal: AbortSignal): Promise<void> {
  const probe = secure ? 'HTTPS' : 'HTTP';
  try {
    const answer = await patiently(pageMs, (limit) => askHttp(webTarget(reading, secure, null, signal, limit), '/'));
    const server = shown(answer.headers['server']);
    const realm = shown(
      readChallenges(answer.headers['www-authenticate'] ?? '')
        .find((c) => c.fields.has('realm'))
        ?.fields.get('realm'),
    );
    const title = shown(titleOf(answer.body));
    const before = reading.heard.http;
    reading.heard.http = {
      server: server ?? before?.server ?? null,
      realm: realm ?? before?.realm ?? null,
      title: title ?? before?.title ?? null,
    };
    const parsed = { status: answer.status, server, realm, title, certificate: answer.certificate };
    const headers = Object.fromEntries(
      Object.entries(answer.headers)
        .filter(([name]) => name !== 'date')
        // A nonce is another one each time.
        .map(([name, value]) => [name, safeText(value.replace(/nonce="[^"]*"/g, 'nonce="…"'), 400)]),
    );
    reading.seen.push({
      probe,
      raw: { status: answer.status, ...headers, body: safeText(answer.body, rawPage), ...(answer.cut ? { cut: true } : {}) },
      parsed,
    });
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    if (error.fault !== 'cancelled' && error.fault !== 'refused')
      reading.troubles.push({ probe, cause: causeOf(error), detail: error.detail });
  }
}

const shown = (text: string | null | undefined): string | null =>
  text === null || text === undefined || text === '' ? null : safeText(text, 200);

/** What WS-Discovery told, and what the camera tells whoever may log in. */
export async function probeOnvif(context: Context, access: Access, reading: Reading, swept: Swept, signal: AbortSignal): Promise<void> {
  const match = swept.onvif;
  if (match === null) return;
  const scope = (name: string): string | null => {
    const prefix = `onvif://www.onvif.org/${name}/`;
    const found = match.scopes.find((s) => s.startsWith(prefix))?.slice(prefix.length);
    try {
      return found === undefined ? null : shown(decodeURIComponent(found));
    } catch {
      return shown(found);
    }
  };
  const hardware = scope('hardware');
  const name = scope('name');
  reading.heard.onvif = { manufacturer: null, model: null, hardware };
  reading.seen.push({
    probe: 'WS-Discovery',
    raw: {
      endpoint: shown(match.endpoint),
      types: match.types.map((t) => safeText(t, 200)),
      scopes: match.scopes.map((s) => safeText(s, 200)),
    },
    parsed: { name, hardware },
  });
  const { network, address } = reading;
  const candidates = access.candidates('onvif', network, address);
  if (candidates.length === 0)
    reading.troubles.push({
      probe: 'ONVIF',
      ...access.whyNone('onvif', reading, 'it answers WS-Discovery, and its network names no ONVIF credential'),
    });
  for (const credential of candidates) {
    const login = { user: credential.user ?? '', password: context.sealer.open(credential.sealed) };
    const done = await access.inTurn(credential, async () => {
      try {
        takeInformation(
          reading,
          hardware,
          credential.id,
          await patiently(pageMs, (limit) => onvifInformation(webTarget(reading, false, null, signal, limit), login)),
        );
        return true;
      } catch (error) {
        if (!(error instanceof WireError)) throw error;
        if (error.fault === 'cancelled') return true;
        if (error.fault === 'login-refused') await access.refused(credential, 'onvif', address);
        reading.troubles.push({ probe: 'ONVIF', cause: causeOf(error), detail: error.detail });
        // Only a refused login is worth another credential.
        return error.fault !== 'login-refused';
      }
    });
    if (done === null) reading.troubles.push(givenUp('ONVIF', credential));
    if (done === true) break;
  }
  reading.findings.push({ probe: 'WS-Discovery', values: { name, model: hardware } });
}

export const givenUp = (probe: string, credential: CredentialRow): Trouble => ({
  probe,
  cause: 'credential-suspended',
  detail: suspendedDetail(credential.name),
});

function takeInformation(
  reading: Reading,
  hardware: string | null,
  credential: string,
  { information: i, clockOffsetMs }: Awaited<ReturnType<typeof onvifInformation>>,
): void {
  reading.credentials['onvif'] = credential;
  reading.heard.onvif = { manufacturer: shown(i.manufacturer), model: shown(i.model), hardware };
  reading.findings.push({
    probe: 'ONVIF',
    values: {
      maker: shown(i.manufacturer),
      model: shown(i.model),
      firmware: shown(i.firmware),
      serial: shown(i.serial),
      hardwareRevision: shown(i.hardware),
    },
  });
  const clock =
    clockOffsetMs === null ? 'not told' : Math.abs(clockOffsetMs) < 5000 ? 'right' : `${Math.round(clockOffsetMs / 60_000)} min off`;
  reading.seen.push({ probe: 'ONVIF', raw: { ...i }, parsed: { ...i, clock } });
}
