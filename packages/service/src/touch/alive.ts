import type { SnmpRecord } from '@barrow/core';
import { hasShell, usesSip, type Family } from '@barrow/families';
import { askHttp, askSip, sshGreeting, WireError } from '@barrow/wire';
import type { Context } from '../context.js';
import { NetworkEntity, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { readSystem } from './running-time.js';

/** Whether a device answers, and by what. */
export interface Sign {
  /** By SNMP; null when it does not answer, or nobody knows how to ask it. */
  readonly system: SnmpRecord | null;
  /** By SNMP, by its SSH identification, by SIP, or by any answer of its web server. */
  readonly answers: boolean;
}

/** Asks by every means that is known: an agent that is gone says nothing of a device whose shell answers. */
export async function signOfLife(
  context: Context,
  device: DeviceRow,
  family: Family,
  timeoutMs: number,
  retries: number,
  /** Whether it may be asked with a credential, a community included: not while nobody knows that it is the device. */
  mayTell = true,
): Promise<Sign> {
  const system = mayTell ? await readSystem(context, device, timeoutMs, retries) : null;
  if (system !== null) return { system, answers: true };
  const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
  if (!network) return { system, answers: false };
  try {
    const limit = Math.max(timeoutMs, 1000);
    if (hasShell(family)) await sshGreeting(device.address, network.sshPort, limit);
    else if (Object.values(family.procedures).some((p) => p && usesSip(p)))
      await askSip({ host: device.address, port: network.sipPort, timeoutMs: limit }, { method: 'OPTIONS' });
    else await anyPage(device.address, network, limit);
    return { system, answers: true };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    return { system, answers: false };
  }
}

/** Whatever its web server answers to a question without a login, over plain HTTP or TLS. */
async function anyPage(host: string, { httpPort, httpsPort }: NetworkRow, timeoutMs: number): Promise<void> {
  try {
    await askHttp({ host, port: httpPort, secure: false, access: null, timeoutMs }, '/');
  } catch (error) {
    if (error instanceof WireError && error.fault === 'login-refused') return;
    await askHttp({ host, port: httpsPort, secure: true, access: null, timeoutMs }, '/').catch((other: unknown) => {
      if (!(other instanceof WireError && other.fault === 'login-refused')) throw other;
    });
  }
}
