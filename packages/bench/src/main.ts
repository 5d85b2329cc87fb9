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
/** Every measure with small numbers: it shows that each one ends, and nothing of speed. */
const smoke: typeof benches = {
  devices: () => benchDeviceList(60, 5),
  'devices-in-rollout': () => benchListInRollout(40, 3, 2000),
  console: () => benchConsole(1),
  restart: () => benchRestart(60, 600),
  images: () => benchImages(1 / 64),
  paths: () => benchPaths(50),
  decide: one(() => benchDecide(60)),
  rehearsal: one(() => benchRehearsal(60)),
  bound: one(() => benchBound(1)),
  guards: one(() => benchGuards(60)),
  sweep: () => benchSweep(2000, 2, 256, 20),
  tftp: one(() => benchTftp({ blockSize: 512, windowSize: 1 }, 20_000, 2)),
  'tftp-wide': one(() => benchTftp({ blockSize: 1428, windowSize: 16 }, 100_000, 2)),
  many: () => benchMany(5, 20_000),
  flood: one(() => benchFlood(100_000)),
  files: one(() => benchFiles(1_000_000, 2)),
};
/** By the names that the command takes; without any, all of them. The first measures while this process is small: it asks and holds the watch. */
const benches: Readonly<Record<string, () => readonly Measured[] | Promise<readonly Measured[]>>> = isSmoke
  ? smoke
  : {
      devices: benchDeviceList,
      'devices-in-rollout': benchListInRollout,
      console: benchConsole,
      restart: benchRestart,
      images: benchImages,
      paths: benchPaths,
      decide: one(() => benchDecide(10_000)),
      rehearsal: one(() => benchRehearsal(10_000)),
      bound: one(benchBound),
      guards: one(() => benchGuards(10_000)),
      sweep: benchSweep,
      tftp: one(() => benchTftp({ blockSize: 512, windowSize: 1 }, 400_000, 60)),
      'tftp-wide': one(() => benchTftp({ blockSize: 1428, windowSize: 16 }, 7_000_000, 150)),
      many: () => benchMany(200, 1_000_000),
      flood: one(() => benchFlood(10_000_000)),
      files: one(() => benchFiles(64_000_000, 15)),
    };
const asked = process.argv.slice(2).filter((word) => word !== '--smoke');
const unknown = asked.filter((name) => !(name in benches));
if (unknown.length > 0) {
  process.stderr.write(`No measure is called ${unknown.join(', ')}.\nThere are: ${Object.keys(benches).join(', ')}.\n`);
  process.exit(2);
}
for (const name of asked.length > 0 ? asked : Object.keys(benches)) for (const m of await benches[name]!()) tell(m);
process.stdout.write(
  isSmoke
    ? `${results.length} figures, with small numbers: they say that every measure ends, and nothing of speed\n`
    : `${results.filter((r) => r.met).length} of ${results.length} aims met\n`,
);
