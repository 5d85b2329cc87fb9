import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { transferFaults, type CauseCode, type Delivery, type StoreProtocol, type Transfer, type TransferFaultName } from '@barrow/core';
import { writeScenarioLibrary } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { delivered, discover, prepare, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

/** The image for each kind of hardware of the scenario. */
const files = { plain: 'tb24-4.3.0.simg', rugged: 'tb24r-4.3.0.simg', board: 'tb24b-4.3.0.simg' };

type Round = Partial<Record<TransferFaultName, [device: string, image: string]>>;

/** Each fault on a device of its own; two rounds, because there are more faults than switches. */
const byTftp: Round[] = [
  {
    'never-asks': ['quay-sw-1', files.plain],
    'way-blocked': ['quay-sw-2', files.plain],
    'asks-from-elsewhere': ['quay-sw-3', files.plain],
    'replies-dropped': ['quay-sw-4', files.plain],
    'asks-in-capitals': ['eelgate-sw-1', files.plain],
    'asks-in-a-folder': ['eelgate-sw-2', files.plain],
    'ignores-window': ['gannet-sw-1', files.plain],
    'refuses-options': ['gannet-sw-2', files.plain],
    'large-blocks-lost': ['dunmoor-sw-1', files.board],
    stalls: ['sandpiper-sw-1', files.rugged],
    'restarts-transfer': ['curlew-sw-1', files.rugged],
  },
  {
    'refuses-file': ['quay-sw-1', files.plain],
    'cuts-file': ['quay-sw-2', files.plain],
    'flash-full': ['quay-sw-3', files.plain],
    'damaged-in-transit': ['quay-sw-4', files.plain],
    'told-other-address': ['eelgate-sw-1', files.plain],
    'goes-dark': ['gannet-sw-2', files.plain],
  },
];
const strip = 'sp8-1.13.img';
/** The same with those that fetch by HTTP; there are two of them. */
const byHttp: Round[] = [
  { 'never-asks': ['quay-pdu-1', strip], 'asks-in-capitals': ['dunmoor-pdu-1', strip] },
  { 'asks-from-elsewhere': ['quay-pdu-1', strip], 'forgets-login': ['dunmoor-pdu-1', strip] },
  { 'closes-connection': ['quay-pdu-1', strip], 'restarts-transfer': ['dunmoor-pdu-1', strip] },
  { 'damaged-in-transit': ['dunmoor-pdu-1', strip] },
];
/** Tried with a store of its own, in `staging.test.ts`. */
const elsewhere: TransferFaultName[] = ['port-taken'];

interface Ended {
  readonly delivery: Delivery;
  /** The first transfer of the device with a cause, as it was told live. */
  readonly first: Transfer | undefined;
}

/** Switches each fault of a round on, has the images brought, and hears what is told first. */
async function tryFaults(scene: Scene, rounds: readonly Round[]): Promise<Map<TransferFaultName, Ended>> {
  const { client } = scene.served;
  const ends = new Map<TransferFaultName, Ended>();
  const firstTold = new Map<string, Transfer>();
  const stop = new AbortController();
  void (async () => {
    for await (const event of client.events({ signal: stop.signal }))
      if (event.kind === 'transfer' && event.transfer.cause && event.transfer.deviceName && !firstTold.has(event.transfer.deviceName))
        firstTold.set(event.transfer.deviceName, event.transfer);
  })().catch(() => undefined);
  for (const round of rounds) {
    firstTold.clear();
    const entries = Object.entries(round) as [TransferFaultName, [string, string]][];
    const made = new Map<TransferFaultName, string>();
    for (const [fault, [device, image]] of entries) {
      if (fault === 'told-other-address') await client.setSite('eelgate', { storeAddress: '127.0.0.77' });
      else await scene.fleet.fault(device, fault);
      const [delivery] = await client.deliver({ image, devices: [device], place: 'device' });
      made.set(fault, delivery!.id);
    }
    const all = await delivered(client, [...made.values()]);
    for (const [fault, [device]] of entries) {
      ends.set(fault, { delivery: all.find((d) => d.id === made.get(fault))!, first: firstTold.get(device) });
      if (fault !== 'told-other-address') await scene.fleet.fault(device, fault, false);
    }
  }
  stop.abort();
  return ends;
}

const causeOf = new Map<TransferFaultName, CauseCode>(transferFaults.map((f) => [f.name, f.cause]));

it('every fault of the table is tried, by each way that it names', () => {
  const tried = (rounds: readonly Round[]): string[] => rounds.flatMap((r) => Object.keys(r)).sort();
  const named = (protocol: StoreProtocol): string[] =>
    transferFaults
      .filter((f) => (f.by as readonly StoreProtocol[]).includes(protocol) && !elsewhere.includes(f.name))
      .map((f) => f.name)
      .sort();
  expect(tried(byTftp)).toEqual(named('tftp'));
  expect(tried(byHttp)).toEqual(named('http'));
  expect(elsewhere.every((name) => causeOf.has(name))).toBe(true);
});

describe.each([
  [
    'TFTP',
    byTftp,
    async () => {
      const scene = await setScene({ network: 79 });
      await prepare(scene);
      return scene;
    },
  ],
  [
    'HTTP',
    byHttp,
    async () => {
      const scene = await setScene({ network: 82, whole: true });
      const { client } = scene.served;
      const sites = ['quay-house', 'dunmoor-depot'];
      await addWholeNetworks(client, 82, sites);
      await discover(client);
      const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
      for (const batch of await batchesOf(
        library.add.filter((f) => f.endsWith(strip)),
        false,
      ))
        await takeBatch(client, batch, {});
      // Slow enough that a device can close its connection in the middle.
      for (const site of sites) await client.setSite(site, { linkKilobits: 4 });
      return scene;
    },
  ],
] as const)('a transfer by %s that goes wrong', (_, rounds, begin) => {
  let scene: Scene;
  let ends: Map<TransferFaultName, Ended>;
  beforeAll(async () => {
    scene = await begin();
    ends = await tryFaults(scene, rounds);
  });
  afterAll(() => scene?.end());

  it.each(rounds.flatMap((r) => Object.keys(r) as TransferFaultName[]))('%s: the first thing told is its cause', (name) => {
    const cause = causeOf.get(name);
    const { delivery, first } = ends.get(name)!;
    // Some get there all the same, slowly.
    const ended = name === 'ignores-window' ? { ended: 'verified' } : { ended: 'failed', cause };
    expect({ first: first?.cause?.code, ended: delivery.state, cause: delivery.cause?.code, detail: delivery.detail }).toMatchObject({
      first: cause,
      ...ended,
    });
    expect(first!.evidence.length).toBeGreaterThan(0);
    expect(first!.cause!.next.length).toBeGreaterThan(20);
  });
});
