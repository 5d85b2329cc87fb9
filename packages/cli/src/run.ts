import { Command } from 'commander';
import { makeAct } from './context.js';
import { exit, type ExitCode } from './errors.js';
import type { Io } from './output.js';
import { safeIo } from './safe-output.js';

type Load = () => Promise<(program: Command, act: ReturnType<typeof makeAct>) => void>;

/** The commands, grouped as the technician's day goes. */
const groups: readonly (readonly [heading: string, loads: readonly Load[]])[] = [
  [
    'Begin:',
    [async () => (await import('./commands/serve.js')).registerServe, async () => (await import('./commands/demo.js')).registerDemo],
  ],
  [
    'What is out there, and what it runs:',
    [
      async () => (await import('./commands/setup.js')).registerSetup,
      async () => (await import('./commands/discover.js')).registerDiscover,
      async () => (await import('./commands/devices.js')).registerDevices,
      async () => {
        const [{ registerFamilies }, { registerTeaching }] = await Promise.all([
          import('./commands/families.js'),
          import('./commands/teaching.js'),
        ]);
        return (program, act) => (registerFamilies(program, act), registerTeaching(program, act));
      },
    ],
  ],
  [
    'What it should run:',
    [
      async () => (await import('./commands/images.js')).registerImages,
      async () => (await import('./commands/standing.js')).registerStanding,
      async () => (await import('./commands/advisories.js')).registerAdvisories,
    ],
  ],
  [
    'Bring it there:',
    [
      async () => (await import('./commands/staging.js')).registerStaging,
      async () => (await import('./commands/transfers.js')).registerTransfers,
    ],
  ],
  [
    'Change it, and prove it:',
    [
      async () => (await import('./commands/rollouts.js')).registerRollouts,
      async () => (await import('./commands/backups.js')).registerBackups,
      async () => (await import('./commands/notices.js')).registerNotices,
    ],
  ],
];

/** Runs one command line. Nothing is thrown: what went wrong is said, and told by the exit code. */
export async function runCli(argv: readonly string[], plain: Io): Promise<ExitCode> {
  // By itself it means this program; after a command it is an option of that.
  const { globals, rest } = hoist(argv.length === 1 && argv[0] === '--version' ? ['--barrow-version'] : argv);
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
  const act = makeAct(program, io, runCli);
  for (const [heading, loads] of groups) {
    program.commandsGroup(heading);
    for (const load of loads) (await load())(program, act);
  }
  for (const command of all(program))
    command.exitOverride().configureOutput({ writeOut: io.out, writeErr: io.err }).showHelpAfterError('See --help.');
  let running: Command | undefined;
  program.hook('preAction', (_, command) => void (running = command));
  try {
    await program.parseAsync([...globals, ...rest], { from: 'user' });
    return exit.done;
  } catch (error) {
    const { report } = await import('./errors.js');
    return report(error, { json, io }, new Set(running?.options.flatMap((o) => o.long ?? [])));
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
