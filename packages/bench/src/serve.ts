import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { BarrowClient } from '@barrow/client';

export const barrow = fileURLToPath(new URL('../../cli/bin/barrow.js', import.meta.url));

export interface BenchService {
  readonly folder: string;
  readonly data: string;
  readonly pid: number;
  readonly client: BarrowClient;
  /** Stops it, and leaves its data. */
  readonly halt: () => Promise<void>;
  readonly end: () => Promise<void>;
}

/** A service of its own, on fresh data when no folder is named. */
export async function serveForBench(
  args: readonly string[] = [],
  folder = mkdtempSync(join(tmpdir(), 'barrow-bench-')),
): Promise<BenchService> {
  const data = join(folder, 'data');
  const anywhere = ['--listen', '--tftp-listen', '--http-store-listen'].flatMap((what) => [what, '127.0.0.1:0']);
  const service = spawn(process.execPath, [barrow, 'serve', '--json', '--data', data, ...anywhere, ...args], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const line = await new Promise<string>((resolve, reject) => {
    createInterface({ input: service.stdout }).once('line', resolve);
    service.once('exit', (code) => reject(new Error(`the service ended with ${code}`)));
  });
  const { url } = JSON.parse(line) as { url: string };
  const halt = async (): Promise<void> => {
    service.kill('SIGTERM');
    await new Promise((resolve) => service.once('exit', resolve));
  };
  return {
    folder,
    data,
    pid: service.pid!,
    client: new BarrowClient({ url, token: readFileSync(join(data, 'token'), 'utf8').trim() }),
    halt,
    end: async () => {
      await halt();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
