import type { BarrowClient } from '@barrow/client';
import { demoCredentials, demoPorts } from '../../packages/cli/dist/demo/data.js';
import { sites, type Fleet } from '@barrow/standins';

/** Everything that opens the whole scenario, and one network for each site, of all its addresses. */
export async function addWholeNetworks(
  client: BarrowClient,
  network: number,
  only: readonly string[] = sites,
  trustNow = true,
): Promise<void> {
  for (const one of demoCredentials) await client.addCredential(one);
  for (const [index, site] of sites.entries())
    if (only.includes(site))
      await client.addNetwork({
        name: site,
        site,
        ranges: [`127.${network}.${index + 1}.1-40`],
        credentials: demoCredentials.map((c) => c.name),
        ...demoPorts,
        packetsPerSecond: 4000,
        trustNow,
      });
}

/** What a device of the fleet truly is. */
export interface Truth {
  readonly name: string;
  readonly site: string;
  readonly address: string | null;
  readonly firmware: string;
  readonly serial: string;
  readonly mac: string;
}

export const truths = (fleet: Fleet): Truth[] => [
  ...fleet.devices.map((d) => ({
    name: d.options.name,
    site: d.options.site,
    address: d.options.address,
    firmware: d.running.version,
    serial: d.options.serial,
    mac: d.options.mac,
  })),
  ...fleet.fixtures.map(({ facts: f }) => ({
    name: f.name,
    site: f.site,
    address: f.address,
    firmware: f.firmware,
    serial: f.serial,
    mac: f.mac,
  })),
];
