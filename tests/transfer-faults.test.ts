import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { transferFaults, type Delivery, type Transfer, type TransferFaultName } from '@barrow/core';
import { delivered, setScene, prepare, type Scene } from './support/scene.js';

/** The image for each kind of hardware of the scenario. */
const files = { plain: 'tb24-4.3.0.simg', rugged: 'tb24r-4.3.0.simg', board: 'tb24b-4.3.0.simg' };

/** Each fault on a device of its own; two rounds, because there are more faults than switches. */
const rounds: Partial<Record<TransferFaultName, [device: string, image: string]>>[] = [
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
/** Tried with a store of its own, in `staging.test.ts`. */
const elsewhere: TransferFaultName[] = ['port-taken'];

describe('a transfer that goes wrong', () => {
  let scene: Scene;
  /** The first cause that was told live, by device. */
  const firstTold = new Map<string, Transfer>();
  const ends = new Map<TransferFaultName, { delivery: Delivery; first: Transfer | undefined; last: Transfer | undefined }>();
  const stop = new AbortController();

  beforeAll(async () => {
    scene = await setScene({ network: 79 });
    await prepare(scene);
    const { client } = scene.served;
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
        else scene.fleet.fault(device, fault);
        const [delivery] = await client.deliver({ image, devices: [device], place: 'device' });
        made.set(fault, delivery!.id);
      }
      const all = await delivered(client, [...made.values()]);
      for (const [fault, [device]] of entries) {
        const delivery = all.find((d) => d.id === made.get(fault))!;
        const [last] = await client.transfers(1, { device });
        ends.set(fault, { delivery, first: firstTold.get(device), last });
        if (fault !== 'told-other-address') scene.fleet.fault(device, fault, false);
      }
    }
  }, 240_000);
  afterAll(async () => {
    stop.abort();
    await scene?.end();
  });

  it('has every fault of the table tried', () => {
    expect([...rounds.flatMap((r) => Object.keys(r)), ...elsewhere].sort()).toEqual(transferFaults.map((f) => f.name).sort());
  });

  it.each(transferFaults.filter((f) => !elsewhere.includes(f.name)).map((f) => [f.name, f.cause] as const))(
    '%s: the first thing told is %s',
    (name, cause) => {
      const { delivery, first } = ends.get(name)!;
      // Some get there all the same, slowly.
      const ended = name === 'ignores-window' ? { ended: 'verified' } : { ended: 'failed', cause };
      expect({ first: first?.cause?.code, ended: delivery.state, cause: delivery.cause?.code, detail: delivery.detail }).toMatchObject({
        first: cause,
        ...ended,
      });
      expect(first!.evidence.length).toBeGreaterThan(0);
      expect(first!.cause!.next.length).toBeGreaterThan(20);
    },
  );
});
