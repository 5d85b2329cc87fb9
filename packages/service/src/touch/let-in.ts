import { askHttp, SshPlace, WireError, type HttpTarget } from '@barrow/wire';
import type { Context } from '../context.js';
import { NetworkEntity, type CredentialRow, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { httpAccess, sshTargetOf } from './access.js';
import { hostOf, usable } from './sparing.js';

const askMs = 3000;

/** How a try of a login came out; null: it was not tried, or nothing was heard of it. */
export type LoginEnd = 'opened' | 'refused' | null;

/** What the wire says of a login: who says nothing has refused nobody. */
export async function asLogin(work: () => Promise<boolean>): Promise<LoginEnd> {
  try {
    return (await work()) ? 'opened' : null;
  } catch (error) {
    if (error instanceof WireError) return error.fault === 'login-refused' ? 'refused' : null;
    throw error;
  }
}

type At = Pick<DeviceRow, 'address' | 'hostKey'>;

/** Whether a login over SSH is accepted; nothing is said there. @throws WireError */
export async function opensShell(context: Context, device: At, { sshPort }: NetworkRow, credential: CredentialRow): Promise<boolean> {
  (await SshPlace.open(sshTargetOf(context, credential, { host: device.address, port: sshPort, hostKey: device.hostKey }))).close();
  return true;
}

/** Whether its first page, where that is guarded (RFC 9110 §11.6.1), is shown to a login. @throws WireError */
export async function opensPages(
  context: Context,
  device: At,
  { httpPort, httpsPort }: NetworkRow,
  credential: CredentialRow,
  signal?: AbortSignal,
): Promise<boolean> {
  const at = (secure: boolean): HttpTarget => ({
    host: device.address,
    port: secure ? httpsPort : httpPort,
    secure,
    access: null,
    timeoutMs: askMs,
    signal,
  });
  const status = async (target: HttpTarget): Promise<number> => (await askHttp(target, '/')).status;
  const secure = await status(at(false)).then(
    (told) => (told === 401 ? false : null),
    async () => ((await status(at(true))) === 401 ? true : null),
  );
  if (secure === null) return false;
  const answered = await status({ ...at(secure), access: httpAccess(context, credential) });
  if (answered === 401 || answered === 403) throw new WireError('login-refused', `${answered}`);
  return answered < 400;
}

/** Whether a device lets a login in, by the door at which it did before; a password goes to no host that is not approved any more. */
export async function letsIn(context: Context, device: DeviceRow, protocol: 'ssh' | 'http', credential: CredentialRow): Promise<LoginEnd> {
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  if (!network || usable([credential], device.approved, protocol, hostOf(device)).may.length === 0) return null;
  return asLogin(() => (protocol === 'ssh' ? opensShell : opensPages)(context, device, network, credential));
}
