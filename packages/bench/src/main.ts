import { benchDecide, benchGuards, benchRehearsal } from './scheduler.js';
import { benchDeviceList, benchListInRollout } from './devices.js';
import { benchConsole } from './console.js';
import { benchImages } from './images.js';
import { benchRestart } from './restart.js';
import { benchPaths } from './paths.js';
import { benchSweep } from './sweep.js';
import { benchFiles } from './files.js';
import { benchFlood, benchMany } from './many.js';
import { benchTftp } from './tftp.js';
import type { Measured } from './measure.js';

/** Measures in one run on this machine; ratios say more than rates, and nothing here is a test. */
const results: Measured[] = [];
const tell = (m: Measured): void => {
  results.push(m);
  process.stdout.write(`${m.met ? '✓' : '✕'} ${m.what}: ${m.value.toFixed(3)} ${m.unit} (${m.aim})\n    ${m.detail}\n`);
};
// First, while this process is small: it is the one that asks and holds the watch.
for (const m of await benchDeviceList()) tell(m);
for (const m of await benchListInRollout()) tell(m);
for (const m of await benchConsole()) tell(m);
for (const m of await benchRestart()) tell(m);
for (const m of await benchImages()) tell(m);
for (const m of benchPaths()) tell(m);
tell(benchDecide(10_000));
tell(benchRehearsal(10_000));
tell(benchGuards(10_000));
for (const m of await benchSweep()) tell(m);
tell(await benchTftp({ blockSize: 512, windowSize: 1 }, 400_000, 60));
tell(await benchTftp({ blockSize: 1428, windowSize: 16 }, 7_000_000, 150));
for (const m of await benchMany(200, 1_000_000)) tell(m);
tell(await benchFlood(10_000_000));
tell(await benchFiles(64_000_000, 15));
process.stdout.write(`${results.filter((r) => r.met).length} of ${results.length} aims met\n`);
