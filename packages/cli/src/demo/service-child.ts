import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { CommandError, exit } from '../errors.js';

const program = fileURLToPath(new URL('../../bin/barrow.js', import.meta.url));

export interface ServiceChild {
  readonly url: string;
  /** Stops it as a system does, and starts it no more. */
  stop(): Promise<void>;
}

/**
 * The service of the demo in a process of its own, so that it can be killed without the devices; whenever it ends without
 * having been stopped, it is started again, as a unit with `Restart=` would.
 */
export async function startServiceChild(args: readonly string[], say: (text: string) => void): Promise<ServiceChild> {
  let stopping = false;
  let child: ChildProcess;
  let listen: readonly string[] = [];
  const start = async (): Promise<string> => {
    const now = spawn(process.execPath, [program, 'serve', '--json', ...args, ...listen], {
      // The channel closes when this process ends, however it ends, and the service stops then.
      stdio: ['ignore', 'pipe', 'inherit', 'ipc'],
    });
    child = now;
    const first = await new Promise<string>((resolve, reject) => {
      createInterface({ input: now.stdout! }).once('line', resolve);
      now.once('error', reject);
      now.once('exit', () => resolve(''));
    });
    const told = (first === '' ? {} : JSON.parse(first)) as {
      url?: string;
      error?: { code: string; what: string; why: string; next: string };
    };
    if (told.error) throw new CommandError(exit.workFailed, told.error.code, told.error.what, told.error.why, told.error.next);
    if (told.url === undefined)
      throw new CommandError(
        exit.workFailed,
        'service-failed',
        'The service did not start',
        'It ended without a word.',
        'Its log is above.',
      );
    now.once('exit', (code, signal) => {
      if (stopping) return;
      say(`The service ended (${signal ?? code}); it is started again.\n`);
      start().then(
        () => say('It is back.\n'),
        (error: unknown) => say(`It could not be started again: ${(error as Error).message}\n`),
      );
    });
    return told.url;
  };
  const url = await start();
  // Killed, it comes back where it was.
  listen = ['--listen', new URL(url).host];
  return {
    url,
    stop: () =>
      new Promise((resolve) => {
        stopping = true;
        if (child.exitCode !== null || child.signalCode !== null) return resolve();
        child.once('exit', () => resolve());
        child.kill('SIGTERM');
      }),
  };
}
