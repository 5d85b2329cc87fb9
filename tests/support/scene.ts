import { cpSync, openAsBlob, readFileSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import type { Delivery, Discovery, LiveEvent, Rollout, TransferStory } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { shippedFamilies } from '@barrow/families';
import { community, Fleet, login, scenario, sites, snmpPort, sshPort, writeScenarioImages } from '@barrow/standins';
import { folder, serve, type Served } from './service.js';

export interface Scene {
  readonly data: string;
  readonly images: readonly string[];
  readonly fleet: Fleet;
  readonly scale: number;
  served: Served;
  readonly end: () => Promise<void>;
}

/** What of a family file is written otherwise, by family. */
export type FamilyChanges = Readonly<Record<string, readonly (readonly [from: string, to: string])[]>>;

/** The families that ship, some of them changed, in a folder of their own. */
export function changedFamilies(path: string, changes: FamilyChanges): string {
  cpSync(shippedFamilies, path, { recursive: true });
  for (const [family, parts] of Object.entries(changes)) {
    const file = join(path, `${family}.yaml`);
    let text = readFileSync(file, 'utf8');
    for (const [from, to] of parts) {
      if (!text.includes(from)) throw new Error(`${family} does not say ${from}`);
      text = text.replace(from, () => to);
    }
    writeFileSync(file, text);
  }
  return path;
}

/** The simulated devices of this test at addresses of its own, and a service that knows nothing yet. */
export async function setScene(use: {
  network: number;
  scale?: number;
  only?: readonly string[];
  whole?: boolean;
  /** So many switches more, at no site of the scenario. */
  more?: number;
  families?: FamilyChanges;
  /** Whose consoles are plugged into which lines, instead of those of the scenario. */
  consoles?: Readonly<Record<string, readonly string[]>>;
  /** Cameras with an address of their own that a recorder records too. */
  recorded?: Readonly<Record<string, readonly string[]>>;
  /** The data folder, instead of one of its own. */
  data?: string;
}): Promise<Scene> {
  const scale = use.scale ?? 100;
  const dir = folder();
  const fleet = new Fleet({
    timeScale: scale,
    network: use.network,
    ...(use.more === undefined ? {} : { more: use.more }),
    ...(use.consoles ? { consoles: use.consoles } : {}),
    ...(use.recorded ? { recorded: use.recorded } : {}),
    only: use.whole ? undefined : (use.only ?? scenario.map((d) => d.name)),
  });
  await fleet.start();
  const data = use.data ?? join(dir.path, 'data');
  const args = use.families ? ['--families', changedFamilies(join(dir.path, 'families'), use.families)] : [];
  const scene: Scene = {
    data,
    images: writeScenarioImages(join(dir.path, 'images')),
    fleet,
    scale,
    served: await serve(data, { scale, args }),
    end: async () => {
      await scene.served.kill();
      await fleet.stop();
      dir.remove();
    },
  };
  return scene;
}

/** How often each device was logged in to until now; discovery logs in to those that have twins. */
export const loginsOf = (fleet: Fleet): ReadonlyMap<string, number> =>
  new Map(fleet.devices.map((d) => [d.options.name, d.counters.logins]));

/** Credentials and one network for each site of the fleet. */
export async function addNetworks(client: BarrowClient, fleet: Fleet): Promise<void> {
  await client.addCredential({ name: 'ferry-snmp', kind: 'snmp-v2c', secret: community });
  await client.addCredential({ name: 'ferry-ssh', kind: 'ssh-password', user: login.user, secret: login.password });
  for (const site of sites) {
    const addresses = fleet.devices.filter((d) => d.options.site === site).map((d) => d.options.address);
    if (addresses.length > 0)
      await client.addNetwork({
        name: site,
        site,
        ranges: addresses,
        credentials: ['ferry-snmp', 'ferry-ssh'],
        snmpPort,
        sshPort,
        packetsPerSecond: 2000,
        trustNow: true,
      });
  }
}

/** Discovers, and waits by the live events until it has ended. */
export async function discover(client: BarrowClient, networks: string[] = []): Promise<Discovery> {
  const stop = new AbortController();
  const listening = new Promise<void>(
    (resolve) =>
      void (async () => {
        for await (const event of client.events({ signal: stop.signal, onState: (on) => on && resolve() }))
          if (event.kind === 'discovery' && event.discovery.state !== 'running') done(event.discovery);
      })(),
  );
  let done!: (d: Discovery) => void;
  const ended = new Promise<Discovery>((resolve) => (done = resolve));
  await listening;
  await client.discover(networks);
  const found = await ended;
  stop.abort();
  return found;
}

/** The good images and a target for each family. */
export async function addImagesAndTargets(client: BarrowClient, images: readonly string[]): Promise<void> {
  for (const file of images.filter((i) => !/\/(damaged|other)\//.test(i)))
    await client.addImage({ file: basename(file), body: await openAsBlob(file) });
  await client.setTarget({ family: 'tarnbrook-access', version: '4.3.0' });
  await client.setTarget({ family: 'wendlock-branch', version: 'R7.04' });
}

export async function prepare(scene: Scene): Promise<void> {
  await addNetworks(scene.served.client, scene.fleet);
  await discover(scene.served.client);
  await addImagesAndTargets(scene.served.client, scene.images);
}

/** Waits, by the live events, until a rollout is as it should be. */
export const rolloutUntil = (client: BarrowClient, id: string, so: (r: Rollout) => boolean): Promise<Rollout> =>
  untilHeard(
    client,
    (event) => event.kind === 'journal' && event.entry.rollout === id,
    async () => {
      const view = await client.rollout(id);
      return so(view) ? view : null;
    },
  );

export const isEnded = (r: Rollout): boolean => r.phase === 'ended';
/** Held, and everything that was still under way has come to its end. */
export const isHeld = (r: Rollout): boolean => r.phase === 'held' && isAtRest(r);

/** Asks again when live events of a kind have come, once for all that came meanwhile, and when events come again, until there is an answer. */
async function untilHeard<T>(client: BarrowClient, is: (event: LiveEvent) => boolean, ask: () => Promise<T | null>): Promise<T> {
  const stop = new AbortController();
  try {
    let wake = (): void => undefined;
    const heard = (async () => {
      for await (const event of client.events({ signal: stop.signal, onState: (on) => on && wake() })) if (is(event)) wake();
    })();
    for (;;) {
      const next = new Promise<void>((resolve) => (wake = resolve));
      const answer = await ask();
      if (answer !== null) return answer;
      await Promise.race([next, heard.then(() => Promise.reject(new Error('the events ended first')))]);
    }
  } finally {
    stop.abort();
  }
}

const ofKind = (kind: LiveEvent['kind']) => (event: LiveEvent) => event.kind === kind;

/** Waits, by the live events, until deliveries have ended; answers them in the order of their ids. */
export const delivered = (client: BarrowClient, ids: readonly string[]): Promise<Delivery[]> =>
  untilHeard(client, ofKind('delivery'), async () => {
    const all = new Map((await client.deliveries(5000)).map((d) => [d.id, d]));
    return ids.every((id) => all.get(id)!.endedAt !== null) ? ids.map((id) => all.get(id)!) : null;
  });

/** Waits until a transfer has ended: who took the last octet may go on before who sent it knows. */
export const transferred = (client: BarrowClient, id: string): Promise<TransferStory> =>
  untilHeard(client, ofKind('transfer'), async () => {
    const story = await client.transfer(id);
    return story.endedAt === null ? null : story;
  });
