import type { BarrowClient } from '@barrow/client';
import type { Command } from 'commander';
import { connect, type Where } from './connect.js';
import { CommandError, exit, type ExitCode } from './errors.js';
import { envOf, type Io, type Say } from './output.js';

/** What every command is given: how to say things, and the way to the service. */
export interface CommandContext {
  readonly say: Say;
  readonly client: () => BarrowClient;
  readonly where: Where;
  readonly run: Run;
}

/** Runs a whole command line, as if it had been typed. */
export type Run = (argv: readonly string[], io: Io) => Promise<ExitCode>;

export type Register = (program: Command, act: Act) => void;

/** Wraps an action, so that global options are read in one place. */
export type Act = <A extends unknown[]>(work: (context: CommandContext, ...given: A) => Promise<void>) => (...given: A) => Promise<void>;

export function makeAct(program: Command, io: Io, run: Run): Act {
  return (work) =>
    async (...given) => {
      // An empty word is a variable that was not set; nothing is meant by it.
      if (given.some((word) => word === '' || (Array.isArray(word) && word.includes(''))))
        throw new CommandError(
          exit.wrongUse,
          'word-empty',
          'The command was not understood',
          'One of its words is empty.',
          'Look whether a variable of your shell is set, and write the word.',
        );
      const options = program.opts<{ json?: boolean } & Where>();
      await work({ say: { json: options.json === true, io }, client: () => connect(options, envOf(io)), where: options, run }, ...given);
    };
}

/** Collects an option that may be given more than once. */
export const collect = (value: string, before: string[]): string[] => [...before, value];
