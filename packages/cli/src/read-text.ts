import { readFile } from 'node:fs/promises';
import { CommandError, exit } from './errors.js';

/** The text of a file that a person named. @throws CommandError when it cannot be read */
export async function readText(file: string, what = 'file'): Promise<string> {
  return readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    const why = error.code === 'ENOENT' ? 'there is no such file' : (error.code ?? error.message);
    throw new CommandError(exit.wrongUse, 'file-missing', `The ${what} cannot be read`, `${file}: ${why}.`, 'Check the path.');
  });
}
