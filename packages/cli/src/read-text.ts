import { readFile } from 'node:fs/promises';
import { CommandError, exit } from './errors.js';

/** The text of a file that a person named. @throws CommandError when it cannot be read */
export async function readText(file: string, what = 'file'): Promise<string> {
  const text = await readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    const why = error.code === 'ENOENT' ? 'there is no such file' : (error.code ?? error.message);
    throw new CommandError(exit.wrongUse, 'file-missing', `The ${what} cannot be read`, `${file}: ${why}.`, 'Check the path.');
  });
  // UTF-16, as some spreadsheets save it, has a NUL in every other place.
  if (text.includes('\0'))
    throw new CommandError(
      exit.wrongUse,
      'file-not-text',
      `The ${what} cannot be read`,
      `${file}: it is not UTF-8 text.`,
      'Save it as UTF-8. Spreadsheets call it "CSV UTF-8".',
    );
  return text;
}
