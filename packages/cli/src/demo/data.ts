import { openAsBlob } from 'node:fs';
import { basename } from 'node:path';
import type { BarrowClient } from '@barrow/client';
import type { CredentialInput } from '@barrow/core';
import {
  community,
  httpPort,
  httpsPort,
  login,
  raiseWord,
  sipPort,
  sites,
  snmpPort,
  snmpUser,
  sshPort,
  webLogin,
  wsDiscoveryPort,
} from '@barrow/standins';

/** Everything that opens the demo's devices, but one. */
export const demoCredentials: readonly CredentialInput[] = [
  { name: 'ferry-snmp', kind: 'snmp-v2c', secret: community },
  { name: 'ferry-snmp3', kind: 'snmp-v3', user: snmpUser.name, secret: snmpUser.authKey, second: snmpUser.privKey, auth: snmpUser.auth },
  { name: 'ferry-ssh', kind: 'ssh-password', user: login.user, secret: login.password, second: raiseWord },
  { name: 'ferry-web', kind: 'http-basic', user: webLogin.user, secret: webLogin.password },
  { name: 'ferry-recorder', kind: 'http-digest', user: webLogin.user, secret: webLogin.password },
  { name: 'ferry-cameras', kind: 'onvif', user: webLogin.user, secret: webLogin.password },
];

export const demoPorts = { snmpPort, sshPort, httpPort, httpsPort, wsDiscoveryPort, sipPort } as const;

/** The credentials and the six networks of the demo scenario, where they are not there yet. */
export async function loadNetworks(barrow: BarrowClient): Promise<void> {
  const credentials = new Set((await barrow.credentials()).map((c) => c.name));
  for (const one of demoCredentials) if (!credentials.has(one.name)) await barrow.addCredential(one);
  const networks = new Set((await barrow.networks()).map((n) => n.name));
  for (const [index, site] of sites.entries())
    if (!networks.has(site))
      await barrow.addNetwork({
        name: site,
        site,
        ranges: [`127.40.${index + 1}.1-40`],
        credentials: demoCredentials.map((c) => c.name),
        ...demoPorts,
        packetsPerSecond: 1000,
      });
}

/** What a technician would have done by the second day: devices found, images added, targets set. */
export async function loadSecondDay(barrow: BarrowClient, images: readonly string[]): Promise<void> {
  if ((await barrow.devicePage({ limit: 1 })).total === 0) {
    let found = await barrow.discover();
    while (found.state === 'running') {
      await new Promise((resolve) => setTimeout(resolve, 100));
      found = await barrow.discovery(found.id);
    }
  }
  const have = new Set((await barrow.images()).map((i) => i.file));
  for (const file of images) if (!have.has(basename(file))) await barrow.addImage({ file: basename(file), body: await openAsBlob(file) });
  if ((await barrow.targets()).length === 0) {
    await barrow.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
    await barrow.setTarget({ family: 'wendlock-branch', version: 'R7.04' });
  }
}
