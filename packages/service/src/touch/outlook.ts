import { uptime } from 'node:os';
import {
  aroundFromSnmp,
  aroundSubtrees,
  emptyOutlook,
  outlookOf,
  outlookScalars,
  recordFromSnmp,
  safeText,
  systemObjects,
  type Calls,
  type Outlook,
} from '@barrow/core';
import { usesOnvif, usesShell, usesSip, usesWeb, type Family } from '@barrow/families';
import { askSip, describeRtsp, onvifClock, onvifStream, tryConnects, WireError, type HttpTarget, type SnmpTarget } from '@barrow/wire';
import type { Context } from '../context.js';
import { CredentialEntity, NetworkEntity, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { snmpAccess } from './access.js';
import { asLogin, opensPages, opensShell, type LoginEnd } from './let-in.js';
import { loginsOf } from './logins.js';

/** Of the tables of what is around, those that are compared before and after. */
const compared = [
  'interfaceNames',
  'interfaceTypes',
  'interfaceStates',
  'ifName',
  'lldpLocal',
  'lldpRemote',
  'powerPorts',
  'bridgePorts',
  'treePorts',
  'dot1dForwarding',
  'dot1qForwarding',
  'aggregates',
] as const;

/** No device is asked for longer by any of it. */
const longestMs = 20_000;
const askMs = 2000;
/** RFC 2326 §3.2. */
const rtspPort = 554;

/** What is left out when it is asked for again: only doors that were open, logins that opened it, and a picture that was there, are compared. */
export interface OutlookWish {
  readonly doors?: readonly string[];
  readonly logins?: readonly string[];
  readonly picture?: boolean;
}

/** At which door besides the one by which it is handled a login is tried. */
type LoginDoor = 'SSH' | 'HTTP' | 'ONVIF';

/** What a device shows of what is around it, by all that it can be asked for; whatever does not answer is left empty. */
export async function readOutlook(
  context: Context,
  device: DeviceRow,
  family: Family,
  wish: OutlookWish,
  signal: AbortSignal,
): Promise<Outlook> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  if (!network || device.address === '') return emptyOutlook;
  const limit = AbortSignal.any([signal, AbortSignal.timeout(longestMs)]);
  const wanted = (door: string): boolean => wish.doors?.includes(door) ?? true;
  const tries = (door: LoginDoor): boolean => wish.logins?.includes(door) ?? true;
  const [tables, doors, sip, camera, ssh, http] = await Promise.all([
    quietly(null, () => readTables(context, device, network, limit)),
    openDoors(device, network, wanted, limit),
    quietly(null, () => askCalls(device, network, family, wanted, limit)),
    quietly(noCamera, () => readCamera(context, device, family, { picture: wish.picture !== false, login: tries('ONVIF') }, limit)),
    asLogin(async () => {
      const kept = tries('SSH') && !isInBy(family, usesShell) ? await keptLogin(context, device, 'ssh') : null;
      return kept !== null && opensShell(context, device, network, kept);
    }),
    asLogin(async () => {
      const kept = tries('HTTP') && !isInBy(family, usesWeb) ? await keptLogin(context, device, 'http') : null;
      return kept !== null && opensPages(context, device, network, kept, limit);
    }),
  ]);
  const told = (how: LoginEnd): string[] =>
    Object.entries({ SSH: ssh, HTTP: http, ONVIF: camera.login }).flatMap(([door, end]) => (end === how ? [door] : []));
  return {
    ...emptyOutlook,
    ...(tables ?? {}),
    clockOffMs: camera.clockOffMs ?? tables?.clockOffMs ?? null,
    ours: { wall: Date.now(), up: Math.round(uptime() * 1000) },
    picture: camera.picture,
    calls: sip,
    doors: [...(tables ? ['SNMP'] : []), ...doors, ...(sip ? ['SIP'] : []), ...(camera.door ? ['ONVIF'] : [])],
    logins: told('opened'),
    refusedLogins: told('refused'),
  };
}

/** What the wire refuses is a device that shows nothing. */
async function quietly<T>(nothing: T, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof WireError) return nothing;
    throw error;
  }
}

type Tables = Pick<Outlook, 'ports' | 'neighbours' | 'fed' | 'learned' | 'routes' | 'root' | 'tree' | 'clockOffMs'>;

async function readTables(context: Context, device: DeviceRow, network: NetworkRow, signal: AbortSignal): Promise<Tables | null> {
  const credential = device.snmpCredential === null ? null : await context.db.keptOne(CredentialEntity, 'id', device.snmpCredential);
  if (!credential) return null;
  const target: SnmpTarget = { address: device.address, port: network.snmpPort, access: snmpAccess(context, credential), timeoutMs: 1000 };
  const got = await context.snmp.get(target, [systemObjects.date, systemObjects.upTime, ...Object.values(outlookScalars)]);
  const at = Date.now();
  const scalars = new Map([...got].map(([oid, v]) => [oid, v.value]));
  const { clock } = recordFromSnmp(scalars);
  const answers = new Map<string, string | number>();
  for (const name of compared) {
    const [oid, most] = aroundSubtrees[name];
    for (const { oid: at, value } of await context.snmp.walk(target, oid, most, signal)) answers.set(at, value);
  }
  return { ...outlookOf(aroundFromSnmp(answers), scalars), clockOffMs: clock === null ? null : clock - at };
}

/** Where a connection is taken; nothing is said there. */
async function openDoors(
  { address }: DeviceRow,
  { sshPort, httpPort, httpsPort }: NetworkRow,
  wanted: (door: string) => boolean,
  signal: AbortSignal,
): Promise<string[]> {
  const ports = new Map(
    (
      [
        ['SSH', sshPort],
        ['HTTP', httpPort],
        ['HTTPS', httpsPort],
      ] as const
    ).filter(([door]) => wanted(door)),
  );
  const open = new Set<number>();
  await tryConnects({
    addresses: [address],
    ports: [...ports.values()],
    connectsPerSecond: 100,
    atOnce: 3,
    timeoutMs: askMs,
    signal,
    onOpen: (_, port) => open.add(port),
  });
  return [...ports].flatMap(([door, port]) => (open.has(port) ? [door] : []));
}

const longestReason = 120;

/** Whether it would take a call; null: it does not speak SIP, as far as anybody knows. */
async function askCalls(
  { address, kind }: DeviceRow,
  { sipPort }: NetworkRow,
  family: Family,
  wanted: (door: string) => boolean,
  signal: AbortSignal,
): Promise<Calls | null> {
  const speaks = kind === 'phone' || kind === 'base-station' || Object.values(family.procedures).some((p) => p && usesSip(p));
  if (!speaks || !wanted('SIP')) return null;
  const { status, head } = await askSip({ host: address, port: sipPort, timeoutMs: askMs, signal }, { method: 'OPTIONS' });
  const reason = /^SIP\/2\.0 \d{3} ([^\r\n]*)/.exec(head)?.[1] ?? '';
  return { status, reason: safeText(reason, longestReason) };
}

/** Whether it is recorded through this door, so that whoever looks is in by it already. */
const isInBy = ({ procedures: { record } }: Family, uses: typeof usesShell): boolean => record !== undefined && uses(record);

async function keptLogin({ db }: Context, { credentials }: DeviceRow, protocol: 'ssh' | 'http') {
  const id = credentials[protocol];
  return id === undefined ? null : await db.keptOne(CredentialEntity, 'id', id);
}

interface Camera {
  readonly door: boolean;
  readonly login: LoginEnd;
  readonly clockOffMs: number | null;
  readonly picture: Outlook['picture'];
}
const noCamera: Camera = { door: false, login: null, clockOffMs: null, picture: null };

/** A camera by its ONVIF services: its clock, and whether the stream that it names can be described. */
async function readCamera(
  context: Context,
  device: DeviceRow,
  family: Family,
  wish: { readonly picture: boolean; readonly login: boolean },
  signal: AbortSignal,
): Promise<Camera> {
  const speaks = device.credentials['onvif'] !== undefined || Object.values(family.procedures).some((p) => p && usesOnvif(p));
  if (!speaks) return noCamera;
  const { network, credentials } = await loginsOf(context, device, 'onvif');
  const target: HttpTarget = { host: device.address, port: network.httpPort, secure: false, access: null, timeoutMs: askMs, signal };
  const clock = await onvifClock(target);
  const clockOffMs = clock === null ? null : clock - Date.now();
  const credential = credentials.find((c) => c.id === device.credentials['onvif']) ?? credentials[0];
  if (!wish.login)
    return { ...noCamera, door: true, clockOffMs, picture: wish.picture ? { there: false, detail: 'its login is refused' } : null };
  if (!credential) return { ...noCamera, door: true, clockOffMs };
  const shown = (picture: Outlook['picture']): Outlook['picture'] => (wish.picture ? picture : null);
  const login = { user: credential.user ?? '', password: context.sealer.open(credential.sealed) };
  let end: LoginEnd = null;
  try {
    const uri = await onvifStream(target, login, clockOffMs ?? 0);
    end = 'opened';
    if (uri === null || !/^rtsp:\/\//i.test(uri)) return { door: true, login: end, clockOffMs, picture: null };
    // The address by which it is reached, whatever it believes its own to be; nobody else is asked with its login.
    const { port, pathname, search } = new URL(uri.replace(/^rtsp/i, 'http'));
    const at = { host: device.address, port: port === '' ? rtspPort : Number(port) };
    const said = await describeRtsp({ ...at, uri: `rtsp://${at.host}:${at.port}${pathname}${search}`, login, timeoutMs: askMs, signal });
    const there = said.status === 200 && said.media.includes('video');
    const detail = there
      ? 'a picture is described'
      : said.status === 200
        ? 'no picture is described'
        : `${said.status} ${said.reason}`.trim();
    return { door: true, login: end, clockOffMs, picture: shown({ there, detail }) };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    // Who let in and does not describe the picture has not refused the login.
    if (end === null && error.fault === 'login-refused') end = 'refused';
    return { door: true, login: end, clockOffMs, picture: shown({ there: false, detail: error.detail }) };
  }
}
