import { openAsBlob } from 'node:fs';
import { basename } from 'node:path';
import type { BarrowClient } from '@barrow/client';
import { community, login, sites, snmpPort, sshPort } from '@barrow/standins';

/** The credentials and the six networks of the demo scenario, where they are not there yet. */
export async function loadNetworks(barrow: BarrowClient): Promise<void> {
  const credentials = new Set((await barrow.credentials()).map((c) => c.name));
  if (!credentials.has('ferry-snmp')) await barrow.addCredential({ name: 'ferry-snmp', kind: 'snmp-v2c', secret: community });
  if (!credentials.has('ferry-ssh'))
    await barrow.addCredential({ name: 'ferry-ssh', kind: 'ssh-password', user: login.user, secret: login.password });
  const networks = new Set((await barrow.networks()).map((n) => n.name));
  for (const [index, site] of sites.entries())
    if (!networks.has(site))
      await barrow.addNetwork({
        name: site,
        site,
        ranges: [`127.40.${index + 1}.1-40`],
        credentials: ['ferry-snmp', 'ferry-ssh'],
        snmpPort,
        sshPort,
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
