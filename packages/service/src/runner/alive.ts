import type { SnmpRecord } from '@barrow/core';
import { sshGreeting, WireError } from '@barrow/wire';
import type { Context } from '../context.js';
import { NetworkEntity, type DeviceRow } from '../data/entities.js';
import { readSystem } from './running-time.js';

/** Whether a device answers, and by what. */
export interface Sign {
  /** By SNMP; null when it does not answer, or nobody knows how to ask it. */
  readonly system: SnmpRecord | null;
  /** By SNMP, or by its SSH identification. */
  readonly answers: boolean;
}

/** Asks by every means that is known: an agent that is gone says nothing of a device whose shell answers. */
export async function signOfLife(context: Context, device: DeviceRow, timeoutMs: number, retries: number): Promise<Sign> {
  const system = await readSystem(context, device, timeoutMs, retries);
  if (system !== null) return { system, answers: true };
  const network = await context.db.findOne(NetworkEntity, { name: device.network });
  if (!network) return { system, answers: false };
  try {
    await sshGreeting(device.address, network.sshPort, Math.max(timeoutMs, 1000));
    return { system, answers: true };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    return { system, answers: false };
  }
}
