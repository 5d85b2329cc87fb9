import { copyFileSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Station } from './support/station.js';
import { blocksOf, followPage } from './support/followed.js';
import { folder, has, serve, type Served } from './support/service.js';

const page = readFileSync(new URL('../docs/families.md', import.meta.url), 'utf8');

const blocks = blocksOf(page.slice(0, page.indexOf('## Everything that')));

describe.skipIf(!has('sshd') || !has('curl') || process.getuid?.() !== 0)('the page about families, followed word by word', () => {
  const station = new Station('127.140.1.1', 2240);
  const dir = folder();
  let served: Served;
  const here = process.cwd();
  /** The names of the page, as they are here. */
  const put = (text: string): string =>
    text
      .replaceAll('192.0.2.20', station.address)
      .replaceAll('/srv/station', station.root)
      .replaceAll('/etc/machine-id', station.machineId)
      .replaceAll('/proc/stat', station.stat)
      .replaceAll('--user station', `--user ${station.user}`)
      .replaceAll(/^(barrow network add .*)$/gm, `$1 --ssh-port ${station.port}`);

  beforeAll(async () => {
    await station.start();
    served = await serve(join(dir.path, 'data'), { scale: 1 });
    writeFileSync(join(dir.path, 'key'), station.privateKey);
    copyFileSync(station.archive('1.1'), join(dir.path, 'station-1.1.tar.gz'));
    process.chdir(dir.path);
  });
  afterAll(async () => {
    process.chdir(here);
    await served?.kill();
    await station.stop();
    dir.remove();
  });

  it('teaches a Linux host, upgrades it through a rollout, and proves it', async () => {
    const file = join(dir.path, 'station.yaml');
    const whole = await followPage(blocks, { file, data: join(dir.path, 'data'), put });
    expect(station).toMatchObject({ version: '1.1', restarts: 1 });
    const device = await served.client.device('station-1');
    expect(device).toMatchObject({ family: 'station', firmware: '1.1', serial: '4f6b21c09e3d4a5f8a7be1d2c3f40516' });
    expect(whole).toContain('✓ record: 4 steps, as it was recorded');
    expect(whole).toMatch(/1 verified/);
    // From now on it is proven, and nobody is asked again; a file that says something else is not.
    expect((await served.client.families()).find((f) => f.family === 'station')!.unproven).toEqual([]);
    await served.client.addFamily(readFileSync(file, 'utf8').replace('30 s', '40 s'), true);
    expect((await served.client.families()).find((f) => f.family === 'station')!.unproven).toEqual(['station']);
    const [made] = await served.client.rollouts();
    expect((await served.client.rollout(made!.id)).runs[0]).toMatchObject({ outcome: 'verified' });
  });
});
