import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Delivery, Place } from '@barrow/core';
import type { BarrowClient } from '@barrow/client';
import { join } from 'node:path';
import { writeScenarioLibrary } from '@barrow/standins';
import { batchesOf, takeBatch } from '../packages/cli/dist/upload.js';
import { barrow } from './support/service.js';
import { discover, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

/** Waits, by the live events, until deliveries have ended. */
export async function delivered(client: BarrowClient, ids: readonly string[]): Promise<Delivery[]> {
  const of = async (): Promise<Delivery[]> => (await client.deliveries(5000)).filter((d) => ids.includes(d.id));
  const stop = new AbortController();
  try {
    for await (const event of client.events({ signal: stop.signal, onState: () => undefined })) {
      void event;
      const all = await of();
      if (all.every((d) => d.endedAt !== null)) return all;
    }
  } finally {
    stop.abort();
  }
  throw new Error('the events ended first');
}

describe('bringing images ahead', () => {
  let scene: Scene;
  let client: BarrowClient;
  const put = async (image: string, devices: string[], place: Place, makeRoom = false): Promise<Delivery[]> => {
    const made = await client.deliver({ image, devices, place, makeRoom });
    await expect.poll(async () => (await client.deliveries()).filter((d) => made.some((m) => m.id === d.id)).every((d) => d.endedAt !== null), {
      timeout: 60_000,
      interval: 100,
    }).toBe(true);
    return (await client.deliveries()).filter((d) => made.some((m) => m.id === d.id));
  };

  beforeAll(async () => {
    scene = await setScene({ network: 78, scale: 100, whole: true });
    ({ client } = scene.served);
    await addWholeNetworks(client, 78, ['quay-house']);
    await discover(client);
    const library = await writeScenarioLibrary(join(scene.data, '..', 'library'));
    for (const batch of await batchesOf([...scene.images.filter((i) => !/\/(damaged|other)\//.test(i)), ...library.add], false))
      await takeBatch(client, batch, {});
  });
  afterAll(() => scene?.end());

  it('debug', async () => {
    const list = (await client.devices()).map((d) => [d.name, d.model, d.hardwareRevision, d.family, d.firmware].join(' '));
    console.log(list.join('\n'));
    for (const [image, device, place] of [
      ['tb24-4.3.0.simg', 'quay-sw-1', 'device'],
      ['oc400r2-2.12.0.simg', 'quay-cam-1', 'device'],
      ['sp8-1.13.img', 'quay-strip-1', 'device'],
      ['sc16-4.0.3.itb', 'quay-con-1', 'device'],
      ['fa310-9.6.0.simg', 'quay-ap-1', 'parent'],
    ] as const) {
      try {
        console.log(JSON.stringify(await put(image, [device], place), null, 1));
      } catch (error) {
        console.log(image, (error as Error).message);
      }
    }
    console.log((await barrow(['staging', 'list', '--url', scene.served.url, '--token', scene.served.token])).out);
    console.log((await barrow(['transfer', 'list', '--url', scene.served.url, '--token', scene.served.token])).out);
  });
});
