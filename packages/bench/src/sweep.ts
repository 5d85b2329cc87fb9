import { fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import type { Measured } from './measure.js';

const program = (name: string): string => fileURLToPath(new URL(`../dist/${name}.js`, import.meta.url));

/** A sweep of 65,536 addresses of which 1,000 answer, with 2 % of the datagrams lost each way. */
export async function benchSweep(rate = 10_000, tries = 3, addresses = 65_536, devices = 1000): Promise<Measured[]> {
  const responder = fork(program('sweep-responder'), [String(devices), '0.02', String(Math.floor((addresses - 7) / devices))]);
  await new Promise((resolve) => responder.once('message', resolve));
  const asker = fork(program('sweep-asker'), [String(rate), String(tries), String(addresses)]);
  const told = await new Promise<{ ms: number; found: number; sent: number; maxRss: number }>((resolve, reject) => {
    asker.once('message', (m) => resolve(m as never));
    asker.once('exit', (code) => reject(new Error(`the sweep ended with ${code}`)));
  });
  const gone = new Promise((resolve) => responder.once('exit', resolve));
  responder.disconnect();
  await gone;
  const least = ((addresses * tries) / rate) * 1000;
  const mebibytes = told.maxRss / 2 ** 20;
  return [
    {
      what: `sweep of ${addresses.toLocaleString('en')} addresses, time over addresses × tries ÷ rate`,
      value: told.ms / least,
      unit: 'times',
      aim: 'at most 1.2',
      met: told.ms / least <= 1.2,
      detail: `${(told.ms / 1000).toFixed(1)} s for ${told.sent} packets at ${rate}/s, ${(least / 1000).toFixed(1)} s at least`,
    },
    {
      what: `sweep with 2 % lost each way, found of ${devices.toLocaleString('en')}`,
      value: told.found,
      unit: 'devices',
      aim: `at least ${devices - 1}`,
      met: told.found >= devices - 1,
      detail: `${tries} tries`,
    },
    {
      what: 'sweep, largest memory of its process',
      value: mebibytes,
      unit: 'MiB',
      aim: 'under 200',
      met: mebibytes < 200,
      detail: 'all of Node.js in it',
    },
  ];
}
