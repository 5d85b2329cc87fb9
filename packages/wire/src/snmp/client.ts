import snmp, { type Session, type Varbind } from 'net-snmp';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownMissed, ownTimeout, type OwnTimer } from '../own-time.js';
import { Patience } from './patience.js';
import { SharedSocket } from './shared-socket.js';

/** One value as a device answered it. Octet strings are hexadecimal when they are not readable text. */
export interface SnmpValue {
  readonly oid: string;
  readonly type: string;
  readonly value: string | number;
}

/** A user of the user-based security model, RFC 3414; SHA-256 by RFC 7860, AES-128 by RFC 3826. */
export interface SnmpUser {
  readonly name: string;
  readonly auth: 'sha1' | 'sha256';
  readonly authKey: string;
  /** null: authenticated and not encrypted. */
  readonly privKey: string | null;
}

export interface SnmpTarget {
  readonly address: string;
  readonly port: number;
  /** A community for v2c, or a user for v3. */
  readonly access: { readonly community: string } | { readonly user: SnmpUser };
  readonly timeoutMs?: number;
  readonly retries?: number;
}

/** One object that is to be set. `address` is IPv4 (RFC 2578 §7.1.5). */
export interface SnmpSetting {
  readonly oid: string;
  readonly type: 'integer' | 'unsigned' | 'text' | 'oid' | 'address';
  readonly value: string;
}

const settingTypes = { integer: 'Integer', unsigned: 'Gauge', text: 'OctetString', oid: 'OID', address: 'IpAddress' } as const;

const typeNames = new Map(
  Object.entries(snmp.ObjectType)
    .filter((e): e is [string, number] => typeof e[1] === 'number')
    .map(([name, number]) => [number, name]),
);

function toValue(varbind: Varbind): SnmpValue | null {
  if (snmp.isVarbindError(varbind)) return null;
  const type = typeNames.get(varbind.type) ?? `type ${varbind.type}`;
  const { value } = varbind;
  if (Buffer.isBuffer(value))
    return { oid: varbind.oid, type, value: type === 'Counter64' ? Number(BigInt(`0x${value.toString('hex') || '0'}`)) : readable(value) };
  if (typeof value === 'number' || typeof value === 'string') return { oid: varbind.oid, type, value };
  return { oid: varbind.oid, type, value: String(value) };
}

/** RFC 2578 §3.5: an object identifier has at most 128 sub-identifiers. */
const mostArcs = 128;
const tooLong = (oid: string): boolean => oid.length > 2 * mostArcs && oid.split('.', mostArcs + 1).length > mostArcs;

/** RFC 2578 §7.1.2 octets as text when they are UTF-8 without control characters, as `0x…` otherwise. */
export function readable(octets: Buffer): string {
  const text = octets.toString('utf8');
  // eslint-disable-next-line no-control-regex
  return /^[^\u0000-\u0008\u000e-\u001f\u007f\ufffd]*$/.test(text) ? text : `0x${octets.toString('hex')}`;
}

/** The library never gives up by itself: how long is waited, and how often asked, is decided here. */
const never = 2 ** 30;
/** Objects that one GETBULK asks for. */
const bulkOf = 40;

/** Reads SNMP v2c (RFC 3416) and v3 (RFC 3414) from many devices over one socket. */
export class SnmpClient {
  readonly #shared = new SharedSocket();
  readonly #patience = new Patience();

  #session(target: SnmpTarget): Session {
    needHost(target.address);
    const options = { port: target.port, timeout: never, retries: 0, dgramModule: this.#shared.moduleFor(target.address, target.port) };
    const session =
      'community' in target.access
        ? snmp.createSession(target.address, target.access.community, { ...options, version: snmp.Version2c })
        : snmp.createV3Session(target.address, v3User(target.access.user), options);
    session.on('error', () => undefined);
    return session;
  }

  /**
   * Asks until it is answered, or until every try was waited for in our own time. Waits follow the round trips that were
   * measured; a process that was late asks again before it concludes anything.
   */
  #ask<T>(target: SnmpTarget, send: (answer: (error: unknown, value: T) => void) => void, signal?: AbortSignal): Promise<T> {
    return new Promise<T>((resolve, reject) => {
      let settled = false;
      let tries = 0;
      let timer: OwnTimer | null = null;
      const wish = target.timeoutMs ?? 1000;
      let most = 1 + (target.retries ?? 2);
      const missedBefore = ownMissed();
      const end = (how: () => void): void => {
        if (settled) return;
        settled = true;
        timer?.cancel();
        signal?.removeEventListener('abort', abort);
        how();
      };
      const abort = (): void => end(() => reject(new WireError('cancelled', 'stopped')));
      const go = (): void => {
        const first = tries === 0;
        const sentAt = performance.now();
        send((error, value) => {
          if (settled) return;
          if (error) return end(() => reject(asWireError(error, target)));
          if (first) this.#patience.measured(performance.now() - sentAt);
          end(() => resolve(value));
        });
        timer = ownTimeout(
          () => {
            tries++;
            // We were away for a while of this: one more question, before it is called silence.
            if (tries === most && most <= (target.retries ?? 2) + 2 && ownMissed() - missedBefore > wish / 2) most++;
            if (tries < most) go();
            else end(() => reject(new WireError('timeout', `no SNMP answer from ${target.address}:${target.port}`)));
          },
          this.#patience.wait(wish, tries),
        );
      };
      if (signal?.aborted) return abort();
      signal?.addEventListener('abort', abort, { once: true });
      go();
    });
  }

  /**
   * Reads single objects; those that the device does not have are absent from the answer.
   * @throws WireError `timeout` when nothing answers, `login-refused` when a v3 user is refused, `malformed` otherwise.
   */
  async get(target: SnmpTarget, oids: readonly string[]): Promise<Map<string, SnmpValue>> {
    const session = this.#session(target);
    try {
      const varbinds = await this.#ask<Varbind[]>(target, (answer) => session.get([...oids], answer));
      return new Map(varbinds.flatMap((v) => toValue(v) ?? []).map((value) => [value.oid, value]));
    } finally {
      session.close();
    }
  }

  /**
   * Sets objects, all of them or none (RFC 3416 §4.2.5). A question that is not answered is put again: to set a value twice is to set it.
   * @throws WireError `refused` when the device does not let them be set, else as `get`
   */
  async set(target: SnmpTarget, values: readonly SnmpSetting[]): Promise<void> {
    const session = this.#session(target);
    const varbinds = values.map(({ oid, type, value }) => ({
      oid,
      type: snmp.ObjectType[settingTypes[type]]!,
      value: type === 'integer' || type === 'unsigned' ? Number(value) : value,
    }));
    try {
      await this.#ask<Varbind[]>(target, (answer) => session.set(varbinds, answer));
    } catch (error) {
      // RFC 3416 §3: error-status 6 to 18 say why it was not set.
      if (
        error instanceof WireError &&
        error.fault === 'malformed' &&
        /No ?Access|Not ?Writable|Authorization|Wrong|Inconsistent|No ?Creation|Read ?Only|Bad ?Value|Commit|Undo|Resource/i.test(
          error.detail,
        )
      )
        throw new WireError('refused', error.detail);
      throw error;
    } finally {
      session.close();
    }
  }

  /**
   * Walks a subtree by GETBULK (RFC 3416 §4.2.3), each step asked for until it is answered; stops after `most` objects, so
   * that a looping device ends somewhere.
   * @throws WireError
   */
  async walk(target: SnmpTarget, root: string, most = 5000, signal?: AbortSignal): Promise<SnmpValue[]> {
    const session = this.#session(target);
    const found: SnmpValue[] = [];
    try {
      for (let from = root; ;) {
        const [varbinds = []] = await this.#ask<Varbind[][]>(target, (answer) => session.getBulk([from], 0, bulkOf, answer), signal);
        for (const varbind of varbinds) {
          if (varbind.type === snmp.ObjectType['EndOfMibView'] || !varbind.oid.startsWith(`${root}.`)) return found;
          if (tooLong(varbind.oid))
            throw new WireError('malformed', `${target.address}:${target.port} tells object identifiers that are longer than any may be`);
          const value = toValue(varbind);
          if (value) found.push(value);
          if (found.length >= most) return found;
          from = varbind.oid;
        }
        if (varbinds.length === 0) return found;
      }
    } finally {
      session.close();
    }
  }

  close(): void {
    this.#shared.close();
  }
}

function v3User(user: SnmpUser): object {
  return {
    name: user.name,
    level: snmp.SecurityLevel[user.privKey === null ? 'authNoPriv' : 'authPriv'],
    authProtocol: snmp.AuthProtocols[user.auth === 'sha1' ? 'sha' : 'sha256'],
    authKey: user.authKey,
    ...(user.privKey === null ? {} : { privProtocol: snmp.PrivProtocols['aes'], privKey: user.privKey }),
  };
}

function asWireError(error: unknown, target: SnmpTarget): WireError {
  const where = `${target.address}:${target.port}`;
  if (error instanceof snmp.RequestTimedOutError) return new WireError('timeout', `no SNMP answer from ${where}`);
  const message = error instanceof Error ? error.message : String(error);
  // RFC 3414 §3.2: reports of usmStatsUnknownUserNames, WrongDigests, UnsupportedSecLevels and DecryptionErrors refuse the user.
  if (/Unknown User Name|Wrong Digest|Unsupported Security Level|Decryption Error/.test(message))
    return new WireError('login-refused', `SNMP v3 of ${where} refuses the user: ${message}`);
  return new WireError('malformed', `SNMP with ${where}: ${message}`);
}
