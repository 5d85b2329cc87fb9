import { CommanderError } from 'commander';
import { ProblemError, UnreachableError } from '@barrow/client';
import { z } from 'zod';
import { makeColours, type Say } from './output.js';

/** Exit codes of every command. */
export const exit = { done: 0, workFailed: 1, wrongUse: 2, unreachable: 3, refused: 4 } as const;
export type ExitCode = (typeof exit)[keyof typeof exit];

/** A failure that a command names itself, in three parts. */
export class CommandError extends Error {
  constructor(
    readonly exitCode: ExitCode,
    readonly code: string,
    readonly what: string,
    readonly why: string,
    readonly next: string,
  ) {
    super(`${what}: ${why}`);
  }
}

/** Ends a command with an exit code after it has said everything. */
export class Quiet extends Error {
  constructor(readonly exitCode: ExitCode) {
    super('done');
  }
}

/** Refusals that are the asker's slip rather than a rule. */
const slips = new Set([
  'range-malformed',
  'version-unreadable',
  'file-name-unfit',
  'credential-without-user',
  'credential-too-short',
  'credential-no-key',
  'list-malformed',
  'target-set-refused',
  'mac-malformed',
]);

interface Told {
  readonly exitCode: ExitCode;
  readonly code: string;
  readonly what: string;
  readonly why: string;
  readonly next: string;
}

/** Known by its shape: the service is only loaded by the commands that start it. */
function isStartFailure(error: unknown): error is Omit<Told, 'exitCode'> {
  return error instanceof Error && error.constructor.name === 'StartFailure';
}

function told(error: unknown): Told {
  if (error instanceof CommandError) return error;
  if (error instanceof ProblemError) {
    const { status, code, title, detail, next } = error.problem;
    const wrong = status === 400 || status === 404 || slips.has(code);
    const exitCode = status >= 500 ? exit.workFailed : wrong ? exit.wrongUse : exit.refused;
    // The command line names options, not fields of the API.
    const help = code === 'request-malformed' ? 'The command with `--help` shows what it expects.' : next;
    return { exitCode, code, what: title, why: detail, next: help };
  }
  if (error instanceof UnreachableError)
    return {
      exitCode: exit.unreachable,
      code: 'service-unreachable',
      what: 'The service cannot be reached',
      why: `${error.url}: ${error.why}.`,
      next: 'Start it with `barrow serve`, or name another with --url (BARROW_URL) or --data (BARROW_DATA).',
    };
  if (isStartFailure(error))
    return {
      exitCode: error.code === 'port-in-use' ? exit.workFailed : exit.refused,
      code: error.code,
      what: error.what,
      why: error.why,
      next: error.next,
    };
  if (error instanceof z.ZodError)
    return {
      exitCode: exit.unreachable,
      code: 'answer-not-understood',
      what: 'The answer was not understood',
      why: error.issues[0]?.message ?? 'it has another shape',
      next: 'The service may be of another version than this command.',
    };
  return {
    exitCode: exit.workFailed,
    code: 'fault',
    what: 'The command failed',
    why: error instanceof Error ? error.message : String(error),
    next: 'If it repeats, report it.',
  };
}

/** Names the file at each fault that the service found in it; the service knows only its text. */
export async function faultsIn<T>(file: string, asked: Promise<T>): Promise<T> {
  try {
    return await asked;
  } catch (error) {
    if (!(error instanceof ProblemError) || error.problem.code !== 'family-file') throw error;
    throw new ProblemError({ ...error.problem, detail: error.problem.detail.replace(/^line:(?=\d+:\d+: )/gm, `${file}:`) });
  }
}

/** Names options where the service names fields, `atOnce` as `--at-once`, if the command has such an option. */
export const inOptions = (why: string, options: ReadonlySet<string>): string =>
  why.replace(/(^|; )([a-z][A-Za-z]*)(?=:? )/g, (whole, before: string, field: string) => {
    const option = `--${field.replace(/[A-Z]/g, (c) => `-${c.toLowerCase()}`)}`;
    return options.has(option) ? `${before}${option}` : whole;
  });

/**
 * Says what went wrong in three parts (with --json as the one object on standard output) and gives the exit code.
 * @param options of the command that failed, each as `--at-once`
 */
export function report(error: unknown, say: Say, options: ReadonlySet<string> = new Set()): ExitCode {
  if (error instanceof Quiet) return error.exitCode;
  if (error instanceof CommanderError) {
    // Help and version are not failures; anything else was said by the parser already.
    return error.exitCode === 0 ? exit.done : exit.wrongUse;
  }
  const { exitCode, code, what, why: reason, next } = told(error);
  const why = code === 'request-malformed' ? inOptions(reason, options) : reason;
  const c = makeColours(say.io);
  if (say.json) say.io.out(`${JSON.stringify({ error: { code, what, why, next } })}\n`);
  else say.io.err(`${c.red('✕')} ${c.bold(what)}\n  Why: ${why}\n  What to do: ${next}\n`);
  return exitCode;
}
