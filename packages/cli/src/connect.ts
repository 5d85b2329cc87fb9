import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { BarrowClient } from '@barrow/client';
import { fetchSending } from './sending.js';
import { CommandError, exit } from './errors.js';
import type { Environment } from './output.js';

export interface Where {
  readonly url?: string | undefined;
  readonly token?: string | undefined;
  readonly data?: string | undefined;
}

export const defaultListen = '127.0.0.1:8470';
export const defaultData = './barrow-data';

/** The data folder that a command means. */
export function dataFolder(where: Where, env: Environment = process.env): string {
  return where.data ?? env['BARROW_DATA'] ?? defaultData;
}

const read = (file: string): string | null => (existsSync(file) ? readFileSync(file, 'utf8').trim() : null);

/** Finds the service and the token: by option, by environment, or in the data folder of a service on this machine. */
export function connect(where: Where, env: Environment = process.env): BarrowClient {
  const folder = dataFolder(where, env);
  const url = where.url ?? env['BARROW_URL'] ?? read(join(folder, 'address')) ?? `http://${defaultListen}`;
  const token = where.token ?? env['BARROW_TOKEN'] ?? read(join(folder, 'token'));
  if (token === null || token === undefined || token === '')
    throw new CommandError(
      exit.refused,
      'no-token',
      'No token was given',
      `Neither --token nor BARROW_TOKEN is set, and ${join(folder, 'token')} is not there.`,
      'Give --data with the folder of the service on this machine, or a token that `barrow token add` made.',
    );
  return new BarrowClient({ url, token, fetch: fetchSending });
}
