import snmp, { type Session, type Varbind } from 'net-snmp';
import { WireError } from '../errors.js';
import { SharedSocket } from './shared-socket.js';

/** One value as a device answered it. Octet strings are hexadecimal when they are not readable text. */
export interface SnmpValue {
  readonly oid: string;
  readonly type: string;
  readonly value: string | number;
}

export interface SnmpTarget {
  readonly address: string;
  readonly port: number;
  readonly community: string;
  readonly timeoutMs?: number;
  readonly retries?: number;
}

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

/** RFC 2578 §7.1.2 octets as text when they are UTF-8 without control characters, as `0x…` otherwise. */
export function readable(octets: Buffer): string {
  const text = octets.toString('utf8');
  // eslint-disable-next-line no-control-regex
  return /^[^\u0000-\u0008\u000e-\u001f\u007f\ufffd]*$/.test(text) ? text : `0x${octets.toString('hex')}`;
}

/** Reads SNMP v2c (RFC 3416) from many devices over one socket. */
export class SnmpClient {
  readonly #shared = new SharedSocket();

  #session(target: SnmpTarget): Session {
    const session = snmp.createSession(target.address, target.community, {
      version: snmp.Version2c,
      port: target.port,
      timeout: target.timeoutMs ?? 1000,
      retries: target.retries ?? 2,
      dgramModule: this.#shared.moduleFor(target.address, target.port),
    });
    session.on('error', () => undefined);
    return session;
  }

  /**
   * Reads single objects; those that the device does not have are absent from the answer.
   * @throws WireError `timeout` when nothing answers, `malformed` otherwise.
   */
  get(target: SnmpTarget, oids: readonly string[]): Promise<Map<string, SnmpValue>> {
    const session = this.#session(target);
    return new Promise<Map<string, SnmpValue>>((resolve, reject) => {
      session.get([...oids], (error, varbinds) => {
        if (error) return reject(asWireError(error, target));
        const found = new Map<string, SnmpValue>();
        for (const varbind of varbinds) {
          const value = toValue(varbind);
          if (value) found.set(value.oid, value);
        }
        resolve(found);
      });
    }).finally(() => session.close());
  }

  /** Walks a subtree by GETBULK; stops after `most` objects, so that a looping device ends somewhere. */
  walk(target: SnmpTarget, root: string, most = 5000): Promise<SnmpValue[]> {
    const session = this.#session(target);
    const found: SnmpValue[] = [];
    return new Promise<SnmpValue[]>((resolve, reject) => {
      session.subtree(
        root,
        20,
        (varbinds) => {
          for (const varbind of varbinds) {
            const value = toValue(varbind);
            if (value) found.push(value);
          }
          if (found.length > most) resolve(found.slice(0, most));
        },
        (error) => (error ? reject(asWireError(error, target)) : resolve(found)),
      );
    }).finally(() => session.close());
  }

  close(): void {
    this.#shared.close();
  }
}

function asWireError(error: unknown, target: SnmpTarget): WireError {
  const where = `${target.address}:${target.port}`;
  if (error instanceof snmp.RequestTimedOutError) return new WireError('timeout', `no SNMP answer from ${where}`);
  return new WireError('malformed', `SNMP with ${where}: ${error instanceof Error ? error.message : String(error)}`);
}
