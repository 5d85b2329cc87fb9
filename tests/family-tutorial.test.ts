import { appendFileSync, copyFileSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Station } from './support/station.js';
import { barrow, folder, has, serve, type Served } from './support/service.js';

const page = readFileSync(new URL('../docs/families.md', import.meta.url), 'utf8');

/** The blocks of the walk, in their order: what they are, and what stands in them. */
const blocks = [...page.slice(0, page.indexOf('## Everything that')).matchAll(/^```(\w+)( \w+)?\n([\s\S]*?)^```$/gm)].map((m) => ({
  what: `${m[1]!}${m[2] ?? ''}`,
  text: m[3]!,
}));

/** A command line in words, with quotes as a shell reads them. */
const wordsOf = (line: string): string[] => (line.match(/'[^']*'|\S+/g) ?? []).map((w) => w.replace(/^'(.*)'$/, '$1'));

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
  const said: string[] = [];

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
    for (const [i, { what, text }] of blocks.entries()) {
      // What is typed is the input of the command before it.
      if (what === 'text') continue;
      if (what === 'yaml') {
        appendFileSync(file, put(text));
        continue;
      }
      if (what === 'yaml procedures') {
        writeFileSync(
          file,
          readFileSync(file, 'utf8').replace(/^procedures:\n/m, (head) => head + put(text)),
        );
        continue;
      }
      const lines = put(text).trim().split('\n');
      for (const [n, line] of lines.entries()) {
        const next = blocks[i + 1];
        const input = n === lines.length - 1 && next?.what === 'text' ? put(next.text) : '';
        const ran = await barrow(wordsOf(line).slice(1), { data: join(dir.path, 'data'), input });
        said.push(`$ ${line}\n${ran.out}${ran.err}`);
        expect(ran.code, said.at(-1)).toBe(0);
      }
    }
    expect(station).toMatchObject({ version: '1.1', restarts: 1 });
    const device = await served.client.device('station-1');
    expect(device).toMatchObject({ family: 'station', firmware: '1.1', serial: '4f6b21c09e3d4a5f8a7be1d2c3f40516' });
    const whole = said.join('\n');
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
