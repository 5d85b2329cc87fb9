// `npm run chaos -- [NIGHTS] [SEED]`: nights in which anything happens, over the whole demo fleet, from a seed on; a line for each, and what must
// never be with all that was done before it. `npm run chaos -- 1 SEED` has one of them again.
import { spawnSync } from 'node:child_process';

const [nights = '20', seed = '1'] = process.argv.slice(2);
if (![nights, seed].every((text) => /^[1-9]\d*$/.test(text))) {
  console.error('How many nights, and from which seed on, are whole numbers: npm run chaos -- 20 1');
  process.exit(2);
}
const env = { ...process.env, CHAOS_NIGHTS: nights, CHAOS_SEED: seed };
process.exit(spawnSync('npx', ['vitest', 'run', '--config', 'vitest.chaos.config.ts'], { stdio: 'inherit', env }).status ?? 1);
