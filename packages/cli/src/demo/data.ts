import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { ProblemError, type BarrowClient } from '@barrow/client';
import type { CredentialInput, TargetInput } from '@barrow/core';
import {
  community,
  httpPort,
  httpsPort,
  login,
  powerCommunity,
  raiseWord,
  sipPort,
  sites,
  snmpPort,
  snmpUser,
  sshPort,
  webLogin,
  wsDiscoveryPort,
  type Library,
} from '@barrow/standins';
import { batchesOf, takeBatch } from '../upload.js';

/** Everything that opens the demo's devices, but one. */
export const demoCredentials: readonly CredentialInput[] = [
  { name: 'ferry-snmp', kind: 'snmp-v2c', secret: community },
  { name: 'ferry-snmp3', kind: 'snmp-v3', user: snmpUser.name, secret: snmpUser.authKey, second: snmpUser.privKey, auth: snmpUser.auth },
  { name: 'ferry-power', kind: 'snmp-v2c', secret: powerCommunity },
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
        trustNow: true,
      });
}

/** Remembers which parts of the demo's data are loaded whole, so that a demo that was killed goes on where it was. */
export class Loaded {
  readonly #file: string;

  constructor(dataFolder: string) {
    this.#file = join(dataFolder, 'demo-loaded.json');
  }

  /** Loads a part unless it was loaded to its end before: what a person took away since then is not put back. */
  async once(part: string, load: () => Promise<unknown>): Promise<void> {
    const parts = existsSync(this.#file) ? (JSON.parse(readFileSync(this.#file, 'utf8')) as string[]) : [];
    if (parts.includes(part)) return;
    await load();
    writeFileSync(`${this.#file}.new`, JSON.stringify([...parts, part]));
    renameSync(`${this.#file}.new`, this.#file);
  }
}

/** So often a device is looked for that is there: on a busy machine the simulated devices answer late. */
const mostDiscoveries = 5;

/**
 * Loads what a technician has done by the second day: discovers devices, adds images and advisories, sets targets.
 *
 * @param expected names of the devices that answer
 */
export async function loadSecondDay(
  barrow: BarrowClient,
  loaded: Loaded,
  images: readonly string[],
  library: Library,
  expected: readonly string[] = [],
): Promise<void> {
  const discoverAll = async (): Promise<void> => {
    let found = await barrow.discover().catch((error: unknown) => {
      if (!(error instanceof ProblemError && error.problem.code === 'discovery-running')) throw error;
      return barrow.discovery();
    });
    while (found.state === 'running') {
      await new Promise((resolve) => setTimeout(resolve, 100));
      found = await barrow.discovery(found.id);
    }
  };
  await loaded.once('devices', async () => {
    for (let tries = 0; tries < mostDiscoveries; tries++) {
      await discoverAll();
      if (expected.length === 0) return;
      const known = new Set((await barrow.deviceNames()).map((d) => d.name));
      if (expected.every((name) => known.has(name))) return;
    }
  });
  await loaded.once('images', async () => {
    for (const batch of await batchesOf([...images, ...library.add], false)) await takeBatch(barrow, batch, {});
  });
  await loaded.once('targets', async () => {
    for (const target of demoTargets) await barrow.setTarget(target);
    await barrow.setPin({ device: 'gannet-cam-1', reason: 'its picture is evidence in a claim', askAgain: '2027-03-31' });
  });
  await loaded.once('advisories', () => loadAdvisories(barrow, library));
}

async function loadAdvisories(barrow: BarrowClient, library: Library): Promise<void> {
  for (const file of library.advisories) {
    const { id } = await barrow.addAdvisory(readFileSync(file, 'utf8'));
    // What Barrow proposes for the products, a technician has confirmed on the first day; one product waits still.
    for (const { vendor, product, proposal } of (await barrow.advisory(id)).products)
      if (proposal) await barrow.mapProduct({ vendor: vendor ?? '', product, family: proposal.family, models: proposal.models });
  }
}

/** The vessels' radio links, what is offered to phones, and what waits on the controller already. */
export async function loadStaging(barrow: BarrowClient, loaded: Loaded): Promise<void> {
  await loaded.once('sites', async () => {
    await barrow.setSite('sandpiper', { linkKilobits: 256, contact: 'the bridge, by radio on channel 7' });
    await barrow.setSite('curlew', { linkKilobits: 128, contact: 'the bridge, by radio on channel 9' });
    await barrow.setSite('quay-house', { contact: 'night desk, extension 7001' });
    await barrow.setSite('eelgate', { contact: 'booking hall until 23:00, extension 7020' });
    await barrow.setSite('gannet-point', { contact: 'pier watch, extension 7031' });
  });
  await loaded.once('offers', () => barrow.putOffer('d40-2.9.0.simg', ['quay-phone-1', 'quay-phone-2', 'quay-phone-3']));
  await loaded.once('deliveries', async () => {
    if ((await barrow.deliveries(1)).length > 0) return;
    await barrow.deliver({
      image: 'fa310-9.6.0.simg',
      devices: ['quay-ap-1', 'quay-ap-2', 'quay-ap-3', 'quay-ap-4'],
      place: 'parent',
      makeRoom: true,
    });
  });
}

/** What Grey Heron Ferries has decided to run. */
export const demoTargets: readonly TargetInput[] = [
  { family: 'tarnbrook-access', version: '4.3.0' },
  { family: 'wendlock-branch', version: 'R7.04' },
  { family: 'tarnbrook-core', version: '6.1.2', model: 'TB-3608' },
  { family: 'tarnbrook-core', version: '6.2.0', model: 'TB-4812' },
  { family: 'wendlock-lane', version: 'L1.2', fromFamilies: ['wendlock-edge'] },
  { family: 'fennwave-controller', version: '9.6.0' },
  { family: 'fennwave-ap', version: '9.6.0', model: 'FA-310' },
  { family: 'fennwave-ap', version: '9.4.5', model: 'FA-110' },
  { family: 'owlpane-recorder', version: '3.9.1' },
  { family: 'owlpane-camera', version: '2.12.0', model: 'OC-400' },
  { family: 'owlpane-camera', version: '1.5.0', model: 'OC-200' },
  { family: 'owlpane-camera', version: '2.11.3', model: 'OC-400', site: 'sandpiper' },
  { family: 'tollard-desk', version: '3.0.2' },
  { family: 'tollard-base', version: '1.7.0' },
  { family: 'tollard-handset', version: '1.6.0' },
  { family: 'stavewell-strip', version: '1.13' },
  { family: 'stavewell-console', version: '4.0.2' },
];
