import { benchDecide, benchGuards, benchRehearsal } from './scheduler.js';
import { benchDeviceList, benchListInRollout } from './devices.js';
import { benchBound } from './bound.js';
import { benchConsole } from './console.js';
import { benchImages } from './images.js';
import { benchRestart } from './restart.js';
import { benchPaths } from './paths.js';
import { benchSweep } from './sweep.js';
import { benchFiles } from './files.js';
import { benchFlood, benchMany } from './many.js';
import { benchTftp } from './tftp.js';
import type { Measured } from './measure.js';

/** Small numbers, so that a test sees each measure end. */
const isSmoke = process.argv.includes('--smoke');
/** Measures in one run on this machine; ratios say more than rates, and nothing here is a test. */
const results: Measured[] = [];
const tell = (m: Measured): void => {
  results.push(m);
  process.stdout.write(`${isSmoke ? '·' : m.met ? '✓' : '✕'} ${m.what}: ${m.value.toFixed(3)} ${m.unit} (${m.aim})\n    ${m.detail}\n`);
};
const one = (work: () => Measured | Promise<Measured>) => async (): Promise<Measured[]> => [await work()];
type Measure = () => readonly Measured[] | Promise<readonly Measured[]>;
/**
 * By the names that the command takes; without any, all of them. Each has its numbers and small ones, with which a test sees that it ends.
 * The first measures while this process is small: it asks and holds the watch.
 */
const benches: Readonly<Record<string, { readonly whole: Measure; readonly small: Measure }>> = {
  devices: { whole: () => benchDeviceList(), small: () => benchDeviceList(60, 5) },
  'devices-in-rollout': { whole: () => benchListInRollout(), small: () => benchListInRollout(40, 3, 2000) },
  console: { whole: () => benchConsole(), small: () => benchConsole(1) },
  restart: { whole: () => benchRestart(), small: () => benchRestart(60, 600) },
  images: { whole: () => benchImages(), small: () => benchImages(1 / 64) },
  paths: { whole: () => benchPaths(), small: () => benchPaths(50) },
  decide: { whole: one(() => benchDecide(10_000)), small: one(() => benchDecide(60)) },
  rehearsal: { whole: one(() => benchRehearsal(10_000)), small: one(() => benchRehearsal(60)) },
  bound: { whole: one(() => benchBound()), small: one(() => benchBound(1)) },
  guards: { whole: one(() => benchGuards(10_000)), small: one(() => benchGuards(60)) },
  sweep: { whole: () => benchSweep(), small: () => benchSweep(2000, 2, 256, 20) },
  tftp: {
    whole: one(() => benchTftp({ blockSize: 512, windowSize: 1 }, 400_000, 60)),
    small: one(() => benchTftp({ blockSize: 512, windowSize: 1 }, 20_000, 2)),
  },
  'tftp-wide': {
    whole: one(() => benchTftp({ blockSize: 1428, windowSize: 16 }, 7_000_000, 150)),
    small: one(() => benchTftp({ blockSize: 1428, windowSize: 16 }, 100_000, 2)),
  },
  many: { whole: () => benchMany(200, 1_000_000), small: () => benchMany(5, 20_000) },
  flood: { whole: one(() => benchFlood(10_000_000)), small: one(() => benchFlood(100_000)) },
  files: { whole: one(() => benchFiles(64_000_000, 15)), small: one(() => benchFiles(1_000_000, 2)) },
};
const asked = process.argv.slice(2).filter((word) => word !== '--smoke');
const unknown = asked.filter((name) => !(name in benches));
if (unknown.length > 0) {
  process.stderr.write(`No measure is called ${unknown.join(', ')}.\nThere are: ${Object.keys(benches).join(', ')}.\n`);
  process.exit(2);
}
for (const name of asked.length > 0 ? asked : Object.keys(benches))
  for (const m of await benches[name]![isSmoke ? 'small' : 'whole']()) tell(m);
process.stdout.write(
  isSmoke
    ? `${results.length} figures, with small numbers: they say that every measure ends, and nothing of speed\n`
    : `${results.filter((r) => r.met).length} of ${results.length} aims met\n`,
);
