import { appendFileSync, writeFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { ChaosHouse, type Night } from '../support/chaos.js';

const nights = Number(process.env['CHAOS_NIGHTS'] ?? '200');
const first = Number(process.env['CHAOS_SEED'] ?? '1');
const file = process.env['CHAOS_FILE'] ?? null;
const network = Number(process.env['CHAOS_NETWORK'] ?? '99');

/** One line a night: its seed, what came of it, and what must never be. */
const line = ({ seed, devices, deeds, outcomes, harm }: Night): string =>
  `${seed}: ${devices} devices, ${deeds.length} deeds; ${Object.entries(outcomes)
    .map(([outcome, n]) => `${n} ${outcome}`)
    .join(', ')}${harm.length === 0 ? '' : `\n  HARM ${harm.join('\n  HARM ')}\n  ${deeds.join('\n  ')}`}`;

let house: ChaosHouse;
beforeAll(async () => {
  house = await ChaosHouse.build(network);
});
afterAll(() => house?.remove());

it(`harms nobody in ${nights} nights from seed ${first} on`, async () => {
  if (file) writeFileSync(file, '');
  const harmed: Night[] = [];
  const total: Record<string, number> = {};
  let [devices, deeds] = [0, 0];
  for (let seed = first; seed < first + nights; seed++) {
    const night = await house.night(seed);
    const text = line(night);
    if (file) appendFileSync(file, `${text}\n`);
    else process.stdout.write(`${text}\n`);
    if (night.harm.length > 0) harmed.push(night);
    devices += night.devices;
    deeds += night.deeds.length;
    for (const [outcome, n] of Object.entries(night.outcomes)) total[outcome] = (total[outcome] ?? 0) + n;
  }
  const outcomes = Object.entries(total).map(([outcome, n]) => `${n} ${outcome}`);
  const sum = `${nights} nights, ${devices} devices, ${deeds} deeds: ${outcomes.join(', ')}; ${harmed.length} with harm`;
  if (file) appendFileSync(file, `${sum}\n`);
  else process.stdout.write(`${sum}\n`);
  expect(harmed.map(({ seed, harm }) => ({ seed, harm }))).toEqual([]);
});
