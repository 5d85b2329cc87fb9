import { cpSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect } from 'vitest';
import type { CredentialInput } from '@barrow/core';
import { shippedFamilies } from '@barrow/families';
import { OddGate } from './odd-gate.js';
import { discover } from './scene.js';
import { barrow, folder, serve, type Served, type Use } from './service.js';

/** Where a shell of theirs would be, beside their pages. */
export const gateShellPort = 2255;

/** Gates of a family of our own, and a service that knows them and has their image. */
export async function setGates(count: number, network: number, family: string, logins: readonly CredentialInput[] = [], scale = 10) {
  const dir = folder();
  const data = join(dir.path, 'data');
  const families = join(dir.path, 'families');
  const gates = Array.from({ length: count }, (_, i) => new OddGate(`gate-${i + 1}`, `127.${network}.1.${i + 1}`, 8100 + network));
  cpSync(shippedFamilies, families, { recursive: true });
  writeFileSync(join(families, 'odd-gate.yaml'), family);
  writeFileSync(join(dir.path, 'og1-2.0.bin'), `gate v2.0 \n${'x'.repeat(3000)}`);
  for (const one of gates) await one.start();
  const start = (use: Use = {}): Promise<Served> => serve(data, { args: ['--families', families], scale, ...use });
  const served = await start();
  const { client } = served;
  await client.addCredential({ name: 'gates', kind: 'http-basic', user: 'barrow', secret: 'gate-word' });
  for (const one of logins) await client.addCredential(one);
  const ranges = gates.map((g) => g.address);
  await client.addNetwork({
    name: 'odd',
    site: 'quay-house',
    ranges,
    credentials: ['gates', ...logins.map((l) => l.name)],
    httpPort: 8100 + network,
    sshPort: gateShellPort,
    trustNow: true,
  });
  await discover(client, ['odd']);
  expect((await barrow(['image', 'add', join(dir.path, 'og1-2.0.bin')], { data })).code).toBe(0);
  await client.setTarget({ family: 'odd-gate', version: '2.0' });
  const end = async (): Promise<void> => {
    for (const one of gates) await one.stop();
    dir.remove();
  };
  return { data, gates, gate: (n: number): OddGate => gates[n - 1]!, served, start, end };
}
export type Gates = Awaited<ReturnType<typeof setGates>>;
export const patient = { timeout: 180_000 };
