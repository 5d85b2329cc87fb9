import { Command } from 'commander';
import { makeAct } from './context.js';
import { exit, type ExitCode } from './errors.js';
import type { Io } from './output.js';
import { safeIo } from './safe-output.js';

const groups: Record<string, () => Promise<{ register: (program: Command, act: ReturnType<typeof makeAct>) => void }>> = {
  serve: async () => ({ register: (await import('./commands/serve.js')).registerServe }),
  demo: async () => ({ register: (await import('./commands/demo.js')).registerDemo }),
  setup: async () => ({ register: (await import('./commands/setup.js')).registerSetup }),
  discover: async () => ({ register: (await import('./commands/discover.js')).registerDiscover }),
  devices: async () => ({ register: (await import('./commands/devices.js')).registerDevices }),
  standing: async () => ({ register: (await import('./commands/standing.js')).registerStanding }),
  families: async () => ({ register: (await import('./commands/families.js')).registerFamilies }),
  images: async () => ({ register: (await import('./commands/images.js')).registerImages }),
  staging: async () => ({ register: (await import('./commands/staging.js')).registerStaging }),
  transfers: async () => ({ register: (await import('./commands/transfers.js')).registerTransfers }),
  backups: async () => ({ register: (await import('./commands/backups.js')).registerBackups }),
  advisories: async () => ({ register: (await import('./commands/advisories.js')).registerAdvisories }),
  rollouts: async () => ({ register: (await import('./commands/rollouts.js')).registerRollouts }),
};

/** Runs one command line. Nothing is thrown: what went wrong is said, and told by the exit code. */
export async function runCli(argv: readonly string[], plain: Io): Promise<ExitCode> {
  const { globals, rest } = hoist(argv);
  const json = globals.includes('--json');
  const io = safeIo(plain, json);
  const program = new Command('barrow')
    .description('Keeps the firmware of switches, routers, access points, cameras and phones in order.')
    .version('0.1.0', '--barrow-version', 'the version of this command')
    .option('--json', 'one JSON answer on standard output, and nothing else')
    .option('--url <url>', 'the service (BARROW_URL)')
    .option('--token <token>', 'the token (BARROW_TOKEN)')
    .option('--data <folder>', 'the data folder of a service on this machine (BARROW_DATA)')
    .exitOverride()
    .showHelpAfterError('See --help.')
    .configureOutput({ writeOut: io.out, writeErr: io.err })
    .addHelpText('after', '\nExit codes: 0 done; 1 the work failed; 2 wrong use; 3 the service cannot be reached; 4 refused.');
  const act = makeAct(program, io);
  for (const load of Object.values(groups)) (await load()).register(program, act);
  for (const command of all(program))
    command.exitOverride().configureOutput({ writeOut: io.out, writeErr: io.err }).showHelpAfterError('See --help.');
  try {
    await program.parseAsync([...globals, ...rest], { from: 'user' });
    return exit.done;
  } catch (error) {
    const { report } = await import('./errors.js');
    return report(error, { json, io });
  }
}

function all(command: Command): Command[] {
  return command.commands.flatMap((c) => [c, ...all(c)]);
}

/** Moves the global options to the front, so that `barrow device list --json` works as people type it. */
function hoist(argv: readonly string[]): { globals: string[]; rest: string[] } {
  const globals: string[] = [];
  const rest: string[] = [];
  for (let i = 0; i < argv.length; i++) {
    const word = argv[i]!;
    if (word === '--') {
      rest.push(...argv.slice(i));
      break;
    }
    if (word === '--json' || /^--(url|token|data)=/.test(word)) globals.push(word);
    else if (/^--(url|token|data)$/.test(word) && i + 1 < argv.length) globals.push(word, argv[++i]!);
    else rest.push(word);
  }
  return { globals, rest };
}
