import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Server } from 'node:http';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openControl, writeUnpackedImage } from '@barrow/standins';
import { blocksOf, followPage } from './support/followed.js';
import { folder, has } from './support/service.js';
import { discover, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

const page = readFileSync(new URL('../docs/teach-a-switch.md', import.meta.url), 'utf8');

describe.skipIf(!has('curl'))('the page about a switch that nobody knows, followed word by word', () => {
  let scene: Scene;
  let control: { url: string; server: Server };
  const dir = folder();
  const here = process.cwd();
  beforeAll(async () => {
    scene = await setScene({ network: 154, only: ['quay-sw-1'] });
    await addWholeNetworks(scene.served.client, 154, ['quay-house']);
    await discover(scene.served.client);
    control = await openControl(scene.fleet);
    writeUnpackedImage(join(dir.path, '.barrow-demo', 'unpacked'));
    process.chdir(dir.path);
  });
  afterAll(async () => {
    process.chdir(here);
    control?.server.close();
    await scene?.end();
    dir.remove();
  });

  it('teaches it, upgrades it through a rollout, and proves it', async () => {
    const put = (text: string): string => text.replaceAll('http://127.0.0.1:8471', control.url).replaceAll('127.40.', '127.154.');
    const up = async (): Promise<void> => {
      // Whoever reads the page sees that it is back.
      const device = scene.fleet.devices.find((d) => d.options.name === 'skerrow-1');
      while (device && device.state !== 'up') await new Promise((resolve) => setTimeout(resolve, 20));
    };
    const whole = await followPage(blocksOf(page), { file: join(dir.path, 'skerrow-sk.yaml'), data: scene.data, put, before: up });
    const device = scene.fleet.device('skerrow-1');
    // One restart by the person who recorded it, and one by the rollout.
    expect(device).toMatchObject({ running: { version: '2.5.0' }, counters: { reboots: 2, activations: 2, restartsInWrite: 0 } });
    expect(whole).toMatch(/✓ activate: 1 step, as it was recorded/);
    expect(whole).toContain('Nobody has seen the family skerrow-sk change a device here');
    // What was shown before it was sent is what was sent.
    const shown = [...whole.matchAll(/^ {4}type: (.+)$/gm)].map(([, line]) => line!);
    expect(shown[0]).toMatch(/^bring sk12-2\.5\.0\.img from 127\.0\.0\.1 \d+$/);
    const [rollout] = await scene.served.client.rollouts();
    const { conversations, events } = await scene.served.client.run(rollout!.id, 'skerrow-1');
    const said = conversations.map((c) => c.text).join('\n');
    for (const line of shown) expect(said).toContain(line);
    expect(events.flatMap(({ event }) => (event.kind.startsWith('person') ? [event.kind] : []))).toEqual([
      'person-asked',
      'person-answered',
    ]);
    expect(whole).toMatch(/1 verified/);
    expect(readFileSync(join(dir.path, 'skerrow-sk.yaml'), 'utf8')).toMatch(/fails:\s+- when: "\^cannot: "\s+cause: activation-refused/);
    const told = await scene.served.client.device('skerrow-1');
    expect(told).toMatchObject({ family: 'skerrow-sk', firmware: '2.5.0', serial: device.options.serial });
    expect((await scene.served.client.families()).find((f) => f.family === 'skerrow-sk')!.unproven).toEqual([]);
    // Its settings were saved before, and what is secret in them stands nowhere.
    const [backup] = await scene.served.client.backups('skerrow-1');
    expect(backup).toBeDefined();
    expect(whole).not.toContain('winter-tide');
  });
});
