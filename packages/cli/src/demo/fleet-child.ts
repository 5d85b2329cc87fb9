import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { fleetProgram } from '@barrow/standins';
import { CommandError, exit } from '../errors.js';

export interface FleetChild {
  readonly devices: number;
  /** Where the fleet tells what truly happened and takes faults. */
  readonly control: string;
  stop(): Promise<void>;
}

/** Starts the simulated devices in a process of their own. */
export async function startFleet(use: {
  scale: number;
  stateFile: string | null;
  faults: readonly string[];
  controlPort?: number;
}): Promise<FleetChild> {
  const child: ChildProcess = spawn(
    process.execPath,
    [
      fleetProgram,
      '--scale',
      String(use.scale),
      ...(use.stateFile ? ['--state', use.stateFile] : []),
      ...use.faults.flatMap((f) => ['--fault', f]),
      '--control-port',
      String(use.controlPort ?? 0),
    ],
    // The channel closes when this process ends, however it ends, and the fleet ends with it.
    { stdio: ['ignore', 'pipe', 'pipe', 'ipc'], detached: true },
  );
  let said = '';
  child.stderr!.on('data', (data: Buffer) => (said += data.toString()));
  const ready = await new Promise<{ devices: number; control: string }>((resolve, reject) => {
    createInterface({ input: child.stdout! }).once('line', (line) => resolve(JSON.parse(line) as never));
    child.once('exit', () =>
      reject(
        /EADDRINUSE/.test(said)
          ? new CommandError(
              exit.workFailed,
              'port-in-use',
              'The simulated devices cannot listen',
              'Something has their addresses already; most likely another demo is running.',
              'Stop the other demo first.',
            )
          : new CommandError(
              exit.wrongUse,
              'fleet-failed',
              'The simulated devices did not start',
              said.trim() || 'no word why',
              'See `barrow demo --help`.',
            ),
      ),
    );
  });
  return {
    ...ready,
    stop: () =>
      new Promise((resolve) => {
        if (child.exitCode !== null || child.signalCode !== null) return resolve();
        child.once('exit', () => resolve());
        child.kill('SIGTERM');
      }),
  };
}
