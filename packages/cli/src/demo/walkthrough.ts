import type { BarrowClient } from '@barrow/client';
import { sites } from '@barrow/standins';
import type { Run } from '../context.js';
import { demoCredentials, demoPorts } from './data.js';
import { CommandError, exit, type ExitCode } from '../errors.js';
import { makeColours, totalsOf, type Io } from '../output.js';

/** What a simulated device says of itself. */
interface Truth {
  readonly name: string;
  readonly runs: string;
  readonly counters: { readonly reboots: number; readonly restartsInWrite: number };
}

interface Act {
  readonly say: string;
  readonly argv: readonly string[];
  /** What it must end with; refusals are shown on purpose. */
  readonly expect: ExitCode;
}

const acts = (images: readonly string[], library: string): Act[] => {
  const file = (part: string): string => images.find((i) => i.endsWith(part))!;
  const at = (index: number) => [
    'network',
    'add',
    sites[index]!,
    '--site',
    sites[index]!,
    '--range',
    `127.40.${index + 1}.1-40`,
    ...demoCredentials.flatMap((c) => ['--credential', c.name]),
    ...Object.entries(demoPorts).flatMap(([key, port]) => [`--${key.replace(/[A-Z]/g, (c) => `-${c.toLowerCase()}`)}`, String(port)]),
  ];
  return [
    ...demoCredentials.map((c, i): Act => ({
      say: i === 0 ? 'Secrets are sealed at once. They come from the environment, a file or standard input.' : '',
      argv: [
        ...['credential', 'add', c.name, '--kind', c.kind],
        ...(c.user ? ['--user', c.user] : []),
        ...['--secret-env', `DEMO_SECRET_${i}`],
        ...(c.second ? ['--second-env', `DEMO_SECOND_${i}`] : []),
      ],
      expect: exit.done,
    })),
    { say: 'Where to look: six sites. Nothing else is ever scanned.', argv: at(0), expect: exit.done },
    ...sites.slice(1).map((_, i): Act => ({ say: '', argv: at(i + 1), expect: exit.done })),
    { say: 'Look.', argv: ['discover'], expect: exit.done },
    { say: 'A host gets no password before somebody has looked at how it shows itself.', argv: ['device', 'waiting'], expect: exit.done },
    { say: 'These are ours.', argv: ['device', 'approve', '--all'], expect: exit.done },
    { say: 'Look again: now they tell more.', argv: ['discover'], expect: exit.done },
    {
      say: 'What is out there, and what it runs: at one terminal, for example.',
      argv: ['device', 'list', '--site', 'eelgate'],
      expect: exit.done,
    },
    { say: 'One switch: what hangs on it, and what goes dark if it reboots.', argv: ['device', 'show', 'eelgate-sw-1'], expect: exit.done },
    { say: 'What nobody could tell, and why.', argv: ['device', 'list', '--only', 'firmware-unknown'], expect: exit.done },
    {
      say: 'A damaged file, and one for gear that is not here, are refused.',
      argv: ['image', 'add', file('damaged/tb24-4.3.0.simg')],
      expect: exit.refused,
    },
    { say: '', argv: ['image', 'add', file('other/tb99-4.3.0.simg')], expect: exit.refused },
    {
      say: 'The good ones are taken. Hardware revision B1 takes a file of its own.',
      argv: ['image', 'add', file('images/tb24-4.3.0.simg')],
      expect: exit.done,
    },
    { say: '', argv: ['image', 'add', file('images/tb24b-4.3.0.simg')], expect: exit.done },
    { say: 'So do the ruggedised twins on board.', argv: ['image', 'add', file('images/tb24r-4.3.0.simg')], expect: exit.done },
    { say: '', argv: ['image', 'add', file('images/wr110-R7.04.simg')], expect: exit.done },
    {
      say: 'And the releases of the others: some in archives, some of several files, each with its note.',
      argv: ['image', 'add', library],
      expect: exit.done,
    },
    { say: 'What they should run.', argv: ['target', 'set', 'tarnbrook-access', 'V4.3.0 build 0419'], expect: exit.done },
    { say: '', argv: ['target', 'set', 'wendlock-branch', 'R7.04'], expect: exit.done },
    ...others.map(([family, version, model]): Act => ({
      say: '',
      argv: ['target', 'set', family, version, ...(model === '' ? [] : ['--model', model])],
      expect: exit.done,
    })),
    { say: 'Who is behind, and by which path.', argv: ['standing'], expect: exit.done },
    {
      say: 'The controller keeps an old image that nobody needs any more: it makes room for the next.',
      argv: ['staging', 'put', 'fa310-9.6.0.simg', 'quay-ap-1', '--at', 'parent', '--make-room', '--wait'],
      expect: exit.done,
    },
    {
      say: 'The plan: pilot devices first, a soak, then the rest, at most ten in parallel. Read its risks: three of them need acceptance.',
      argv: ['rollout', 'plan', '--name', 'winter round', '--soak', '3s', '--at-once', '10', '--unsaved', 'save'],
      expect: exit.done,
    },
    {
      say: 'The rehearsal: the very rules of the run, on a clock that does not wait.',
      argv: ['rollout', 'rehearse', 'latest'],
      expect: exit.done,
    },
    {
      say: 'Without acceptance of these risks, Barrow refuses to start.',
      argv: ['rollout', 'start', 'latest'],
      expect: exit.refused,
    },
    {
      say: 'Accept each risk by name, and start.',
      argv: ['rollout', 'start', 'latest', '--accept', 'left-behind,resets,drops', '--follow'],
      expect: exit.done,
    },
    { say: 'What moved.', argv: ['transfer', 'list', '--most', '6'], expect: exit.done },
    { say: 'The evidence.', argv: ['report', 'latest'], expect: exit.done },
    { say: 'And everybody against the target.', argv: ['standing'], expect: exit.done },
  ];
};

/** What the others should run, by family and model. */
const others = [
  ['tarnbrook-core', '6.1.2', 'TB-3608'],
  ['tarnbrook-core', '6.2.0', 'TB-4812'],
  ['fennwave-controller', '9.6.0', ''],
  ['fennwave-ap', '9.6.0', 'FA-310'],
  ['owlpane-camera', '2.12.0', 'OC-400'],
  ['stavewell-strip', '1.13', ''],
  ['tollard-desk', '3.0.2', ''],
] as const;

/** Plays the whole journey with the real commands; fails when any ends otherwise than it should. */
export async function walkthrough(
  io: Io,
  data: string,
  images: readonly string[],
  library: string,
  control: string,
  run: Run,
): Promise<void> {
  const c = makeColours(io);
  for (const [i, { secret, second }] of demoCredentials.entries()) {
    process.env[`DEMO_SECRET_${i}`] = secret;
    if (second) process.env[`DEMO_SECOND_${i}`] = second;
  }
  process.env['BARROW_DATA'] = data;
  const quote = (word: string): string => (/^[\w./:=-]+$/.test(word) ? word : `'${word}'`);
  for (const { say, argv, expect } of acts(images, library)) {
    if (say) io.out(`\n${c.cyan(say)}\n`);
    io.out(`${c.dim('$')} ${c.bold(`barrow ${argv.map(quote).join(' ')}`)}\n`);
    const code = await run(argv, io);
    if (code !== expect)
      throw new CommandError(
        exit.workFailed,
        'walkthrough-failed',
        'The walkthrough did not go as it should',
        `\`barrow ${argv.join(' ')}\` ended with ${code}, ${expect} was expected.`,
        'Read what it said above.',
      );
  }
  const { connect } = await import('../connect.js');
  const barrow: BarrowClient = connect({ data });
  const [rollout] = await barrow.rollouts();
  const { runs } = await barrow.rollout(rollout!.id);
  const truth = new Map(((await (await fetch(control)).json()) as Truth[]).map((d) => [d.name, d]));
  // Each is asked itself: as many restarts as images on its way, and none while it was writing.
  const right = runs.filter(({ name, target, legs }) => {
    const device = truth.get(name);
    return device?.runs === target && device.counters.reboots === legs.length && device.counters.restartsInWrite === 0;
  }).length;
  io.out(
    `\n${c.bold('Summary')}: ${totalsOf(rollout!)}. Asked themselves, ${right} of ${runs.length} devices run what was planned, were restarted once for each image, and never while writing.\n`,
  );
  if ((rollout!.totals.verified ?? 0) !== rollout!.devices || right !== runs.length)
    throw new CommandError(
      exit.workFailed,
      'walkthrough-failed',
      'The walkthrough did not go as it should',
      'Not every device was verified once.',
      'Read what it said above.',
    );
}
