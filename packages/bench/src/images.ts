import { execFileSync, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { closeSync, fsyncSync, openSync, readFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { Measured } from './measure.js';
import { barrow, serveForBench } from './serve.js';

/** Writes an image of the demo's format, piece by piece. */
function writeImage(path: string, payloadBytes: number): void {
  const piece = randomBytes(1 << 20);
  const pieces = payloadBytes / piece.length;
  const stamp = (i: number): void => void piece.writeUInt32BE(i, 0);
  const hash = createHash('sha256');
  for (let i = 0; i < pieces; i++) {
    stamp(i);
    hash.update(piece);
  }
  const header = {
    maker: 'Tarnbrook',
    models: ['TB-2408'],
    hardwareRevisions: ['A1'],
    variant: '',
    version: '4.5.0',
    payloadBytes,
    payloadSha256: hash.digest('hex'),
  };
  const json = Buffer.from(JSON.stringify(header));
  const start = Buffer.alloc(10);
  start.write('SIMG1\n', 'latin1');
  start.writeUInt32BE(json.length, 6);
  const file = openSync(path, 'w');
  writeSync(file, Buffer.concat([start, json]));
  for (let i = 0; i < pieces; i++) {
    stamp(i);
    writeSync(file, piece);
  }
  // What is still to be written of it must not be written while it is measured.
  fsyncSync(file);
  closeSync(file);
}

/** Resident memory of a process, in octets; `peak` is the most since it was last forgotten. */
const memoryOf = (pid: number, what: 'VmRSS' | 'VmHWM'): number =>
  Number(new RegExp(`${what}:\\s+(\\d+) kB`).exec(readFileSync(`/proc/${pid}/status`, 'utf8'))![1]) * 1024;

/** Adds one large image by the command line, against `sha256sum` on the same file in the same run. */
export async function benchImages(gibibytes = 2): Promise<Measured[]> {
  const { folder, pid, end } = await serveForBench();
  try {
    const file = join(folder, 'tb24-4.5.0.simg');
    writeImage(file, gibibytes * 1024 ** 3);
    const run = (args: string[]): Promise<void> =>
      new Promise((resolve, reject) => {
        const child = spawn(process.execPath, [barrow, ...args, '--data', join(folder, 'data'), '--json'], {
          stdio: ['ignore', 'ignore', 'inherit'],
        });
        child.once('exit', (code) => (code === 0 ? resolve() : reject(new Error(`barrow ${args.join(' ')} ended with ${code}`))));
      });
    // Everything that is loaded once is loaded before memory is measured.
    await run(['image', 'list']);
    const digest = (): number => {
      const from = performance.now();
      execFileSync('sha256sum', [file]);
      return performance.now() - from;
    };
    const before = digest();
    const idle = memoryOf(pid, 'VmRSS');
    const began = performance.now();
    await run(['image', 'add', file]);
    const took = performance.now() - began;
    const peak = memoryOf(pid, 'VmHWM');
    const after = digest();
    const sum = (before + after) / 2;
    const ratio = sum / took;
    const added = (peak - idle) / 1024 ** 2;
    return [
      {
        what: `adding an image of ${gibibytes} GiB`,
        value: ratio,
        unit: 'of the rate of sha256sum',
        aim: 'at least 0.8',
        met: ratio >= 0.8,
        detail: `${(took / 1000).toFixed(1)} s by the command line, sha256sum ${(sum / 1000).toFixed(1)} s`,
      },
      {
        what: 'memory of the service while it is added',
        value: added,
        unit: 'MiB over idle',
        aim: 'under 128',
        met: added < 128,
        detail: `idle ${(idle / 1024 ** 2).toFixed(0)} MiB, at most ${(peak / 1024 ** 2).toFixed(0)} MiB`,
      },
    ];
  } finally {
    await end();
  }
}
