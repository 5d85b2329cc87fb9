import { CommandError, exit } from './errors.js';
import { envOf, type Io } from './output.js';

/** A secret from a file, from the environment, or typed into standard input; never from the command line, where others can read it. */
export async function secretFrom(options: { secretFile?: string; secretEnv?: string }, io: Io): Promise<string> {
  if (options.secretEnv) {
    const value = envOf(io)[options.secretEnv];
    if (!value)
      throw new CommandError(
        exit.wrongUse,
        'secret-missing',
        'There is no secret',
        `The environment variable ${options.secretEnv} is empty.`,
        'Set it, or use --secret-file.',
      );
    return value;
  }
  const { readFile } = await import('node:fs/promises');
  const file = options.secretFile ?? '-';
  try {
    if (file !== '-') return (await readFile(file, 'utf8')).replace(/\r?\n$/, '');
  } catch (error) {
    throw new CommandError(
      exit.wrongUse,
      'secret-missing',
      'There is no secret',
      `${file}: ${(error as NodeJS.ErrnoException).code ?? 'unreadable'}.`,
      'Check the path.',
    );
  }
  let text = '';
  for await (const chunk of io.input ?? process.stdin) text += String(chunk);
  const secret = text.replace(/\r?\n$/, '');
  if (secret === '')
    throw new CommandError(
      exit.wrongUse,
      'secret-missing',
      'There is no secret',
      'Standard input was empty.',
      'Pipe it in, or use --secret-file or --secret-env.',
    );
  return secret;
}
