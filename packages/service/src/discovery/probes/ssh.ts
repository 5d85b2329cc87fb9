import { safeText } from '@barrow/core';
import { sshGreeting, sshHostKey, WireError } from '@barrow/wire';
import { patiently } from '../patience.js';
import type { Reading } from '../reading.js';
import { causeOf } from './snmp.js';

const greetingMs = 4000;

/** Reads the identification and the host key; nobody logs in. */
export async function probeSsh(reading: Reading): Promise<void> {
  const { address, network } = reading;
  try {
    const greeting = await patiently(greetingMs, (limit) => sshGreeting(address, network.sshPort, limit));
    reading.heard.ssh = { identification: safeText(greeting.identification, 255) };
    const raw: Record<string, unknown> = {
      identification: safeText(greeting.identification, 255),
      ...(greeting.before === '' ? {} : { before: safeText(greeting.before, 1000) }),
    };
    try {
      reading.hostKey = await patiently(greetingMs, (limit) => sshHostKey(address, network.sshPort, limit));
      raw['hostKey'] = reading.hostKey;
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      reading.troubles.push({ probe: 'SSH', cause: causeOf(error), detail: error.detail });
    }
    reading.seen.push({ probe: 'SSH', raw, parsed: { identification: raw['identification'], hostKey: reading.hostKey } });
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    if (error.fault !== 'refused') reading.troubles.push({ probe: 'SSH', cause: causeOf(error), detail: error.detail });
  }
}
