import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { Readable } from 'node:stream';
import { fileURLToPath } from 'node:url';
import { runCli } from '@barrow/cli';
import { BarrowClient } from '@barrow/client';

export const program = fileURLToPath(new URL('../../packages/cli/bin/barrow.js', import.meta.url));

/** A folder of this test alone, gone with it. */
export function folder(): { path: string; remove: () => void } {
  const path = mkdtempSync(join(tmpdir(), 'barrow-test-'));
  return { path, remove: () => rmSync(path, { recursive: true, force: true }) };
}

export interface Served {
  readonly url: string;
  readonly tftp: string;
  readonly httpStore: string;
  readonly token: string;
  readonly client: BarrowClient;
  /** Ends when the process has ended, with its exit code or signal. */
  readonly ended: Promise<number | string>;
  /** Everything it has logged. */
  readonly log: () => string;
  /** As a power cut would: nothing is tidied up. */
  readonly kill: () => Promise<void>;
  /** Stops the process in its tracks, as a debugger or a starved machine does, and lets it go on. */
  readonly freeze: () => void;
  readonly thaw: () => void;
  /** Makes the world around it otherwise; needs that it was started with `unruly`. */
  readonly unruly: (how: Unruly) => void;
  /** As if the program that has started it were gone; needs `channel`. */
  readonly orphan: () => void;
  /** As a system does at shutdown. */
  readonly stop: () => Promise<number | string>;
}

/** How the world around a service is; what is not said stays as it is. */
export interface Unruly {
  /** How far its time of day is ahead of ours. */
  readonly clockMs?: number;
  /** How long its disk takes for each write, and each commit. */
  readonly writeMs?: number;
  /** The part of all datagrams, either way, that is lost, and that comes twice. */
  readonly lose?: number;
  readonly double?: number;
  readonly seed?: number;
}

export interface Use {
  readonly scale?: number;
  readonly args?: string[];
  readonly unruly?: Unruly;
  /** Whether it has a channel to us, as to the demo that starts it. */
  readonly channel?: boolean;
}

/** Starts the real service in a process of its own, on free loopback ports. */
export async function serve(data: string, use: Use = {}): Promise<Served> {
  const world = `${data}.world.json`;
  let how: Unruly = {};
  const unruly = (change: Unruly): void => writeFileSync(world, JSON.stringify((how = { ...how, ...change })));
  if (use.unruly) unruly(use.unruly);
  const child = spawn(
    process.execPath,
    [
      ...(use.unruly ? ['--import', new URL('./unruly.mjs', import.meta.url).href] : []),
      program,
      'serve',
      '--json',
      '--data',
      data,
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
      '--device-time-scale',
      String(use.scale ?? 1),
      '--log',
      'info',
      ...(use.args ?? []),
    ],
    {
      stdio: ['ignore', 'pipe', 'pipe', ...(use.channel ? ['ipc' as const] : [])],
      env: { ...process.env, UNRULY: world },
    },
  );
  let log = '';
  child.stderr!.on('data', (d: Buffer) => (log += d.toString()));
  const ended = new Promise<number | string>((resolve) => child.once('exit', (code, signal) => resolve(code ?? signal ?? 'gone')));
  const line = await Promise.race([
    new Promise<string>((resolve) => createInterface({ input: child.stdout! }).once('line', resolve)),
    ended.then((how) => Promise.reject(new Error(`the service ended with ${how}: ${log}`))),
  ]);
  const { url, tftp, httpStore, error } = JSON.parse(line) as { url: string; tftp: string; httpStore: string; error?: unknown };
  if (error !== undefined) throw new Error(`the service did not start: ${JSON.stringify(error)}`);
  const token = readFileSync(join(data, 'token'), 'utf8').trim();
  return {
    url,
    tftp,
    httpStore,
    token,
    client: new BarrowClient({ url, token }),
    ended,
    log: () => log,
    kill: async () => {
      child.kill('SIGKILL');
      await ended;
    },
    freeze: () => void child.kill('SIGSTOP'),
    thaw: () => void child.kill('SIGCONT'),
    orphan: () => child.disconnect(),
    unruly: (change) => {
      unruly(change);
      child.kill('SIGUSR2');
    },
    stop: async () => {
      child.kill('SIGTERM');
      return ended;
    },
  };
}

export interface Ran {
  readonly code: number;
  readonly out: string;
  readonly err: string;
  /** What --json answered. */
  readonly json: <T = Record<string, unknown>>() => T;
}

interface Surroundings {
  readonly data?: string;
  readonly env?: Record<string, string>;
  readonly input?: string;
}
const environmentOf = (use: Surroundings): Record<string, string | undefined> => ({
  ...process.env,
  BARROW_DATA: use.data ?? '/nonexistent',
  BARROW_URL: undefined,
  BARROW_TOKEN: undefined,
  ...use.env,
});

/** Runs the real command line in a process of its own. */
export function barrowProcess(args: readonly string[], use: Surroundings = {}): Promise<Ran> {
  return new Promise((resolve) => {
    const env = environmentOf(use) as NodeJS.ProcessEnv;
    const child = spawn(process.execPath, [program, ...args], { env, stdio: ['pipe', 'pipe', 'pipe'] });
    let out = '';
    let err = '';
    child.stdout.on('data', (d: Buffer) => (out += d.toString()));
    child.stderr!.on('data', (d: Buffer) => (err += d.toString()));
    child.stdin.end(use.input ?? '');
    child.once('close', (code) => resolve({ code: code ?? -1, out, err, json: () => JSON.parse(out) as never }));
  });
}

/** Runs the real command line: what its program runs, without the start of a process, which costs more than most commands. */
export async function barrow(args: readonly string[], use: Surroundings = {}): Promise<Ran> {
  // What is a service itself is one of its own.
  if (args.includes('serve') || args.includes('demo')) return barrowProcess(args, use);
  let out = '';
  let err = '';
  const code = await runCli(args, {
    out: (text) => void (out += text),
    err: (text) => void (err += text),
    terminal: false,
    width: 100,
    env: environmentOf(use),
    input: Readable.from([use.input ?? '']),
  });
  return { code, out, err, json: () => JSON.parse(out) as never };
}

/** Whether a program of Debian is here to be the referee; `npm test` installs them when it can. */
export const has = (name: string): boolean => ['/usr/bin', '/usr/sbin', '/bin', '/sbin'].some((p) => existsSync(join(p, name)));
