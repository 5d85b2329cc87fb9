import type { BarrowClient } from '@barrow/client';
import type { Command } from 'commander';
import { connect, type Where } from './connect.js';
import type { Io, Say } from './output.js';

/** What every command is given: how to say things, and the way to the service. */
export interface CommandContext {
  readonly say: Say;
  readonly client: () => BarrowClient;
  readonly where: Where;
}

export type Register = (program: Command, act: Act) => void;

/** Wraps an action, so that global options are read in one place. */
export type Act = <A extends unknown[]>(work: (context: CommandContext, ...given: A) => Promise<void>) => (...given: A) => Promise<void>;

export function makeAct(program: Command, io: Io): Act {
  return (work) =>
    async (...given) => {
      const options = program.opts<{ json?: boolean } & Where>();
      await work({ say: { json: options.json === true, io }, client: () => connect(options), where: options }, ...given);
    };
}

/** Collects an option that may be given more than once. */
export const collect = (value: string, before: string[]): string[] => [...before, value];
