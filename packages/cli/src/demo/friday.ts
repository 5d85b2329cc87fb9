import { mkdirSync } from 'node:fs';
import { join, relative } from 'node:path';
import type { BarrowClient } from '@barrow/client';
import { duration, type Rollout, type RunView } from '@barrow/core';
import type { Run } from '../context.js';
import { CommandError, exit, type ExitCode } from '../errors.js';
import { makeColours, totalsOf, type Io } from '../output.js';

/** What goes wrong in the night, what a rehearsal calls it, and what it must come to. */
interface Mishap {
  readonly device: string;
  readonly fault: string;
  /** As `rehearse --if` takes it; null: it waits for nobody. */
  readonly asIf: string | null;
  readonly ends: RunView['outcome'];
  readonly cause: string | null;
  readonly words: string;
}

const mishaps: readonly Mishap[] = [
  {
    device: 'quay-phone-1',
    fault: 'hangs-at-restart',
    asIf: 'return:never-returned',
    ends: 'verified',
    cause: null,
    words: 'hangs at its restart: waited for once more, then started anew by the power of its port',
  },
  {
    device: 'gannet-sw-1',
    fault: 'returns-with-settings-lost',
    asIf: 'checks:settings-changed',
    ends: 'recovered',
    cause: 'settings-changed',
    words: 'comes back without its settings: taken back to its other slot, and given them again',
  },
  {
    device: 'dunmoor-sw-1',
    fault: 'never-asks',
    asIf: 'transfer:never-asked',
    ends: 'failed',
    cause: 'never-asked',
    words: 'asks the store for nothing: left as it was, and told why',
  },
  {
    device: 'quay-cam-2',
    fault: 'refuses-file',
    asIf: 'transfer:image-refused',
    ends: 'failed',
    cause: 'image-refused',
    words: 'refuses the file: left as it was, in its own words',
  },
  {
    device: 'eelgate-phone-2',
    fault: 'in-a-call',
    asIf: null,
    ends: 'not-begun',
    cause: 'device-in-use',
    words: 'is in a call all night: not begun',
  },
];

const trial = ['quay-sw-3', 'eelgate-cam-1', 'eelgate-phone-1', 'dunmoor-pdu-1', 'quay-core-1'];

export interface FridayInput {
  readonly data: string;
  readonly folder: string;
  /** Where the fleet takes faults, and tells what truly happened. */
  readonly control: string;
  /** How much faster the devices' time runs. */
  readonly scale: number;
  readonly barrow: BarrowClient;
  readonly run: Run;
}

const failed = (why: string): CommandError =>
  new CommandError(exit.workFailed, 'night-failed', 'The night did not go as it should', why, 'Read what it said above, and its report.');

/** A whole night with the real commands: all sites, five waves, five things that go wrong; what can be recovered is, and the rest is told. */
export async function friday(io: Io, { data, folder, control, scale, barrow, run }: FridayInput): Promise<void> {
  const c = makeColours(io);
  process.env['BARROW_DATA'] = data;
  const out = join(folder, 'friday');
  mkdirSync(out, { recursive: true });
  const quote = (word: string): string => (/^[\w./:=@-]+$/.test(word) ? word : `'${word}'`);
  const act = async (say: string, argv: readonly string[], expect: readonly ExitCode[] = [exit.done]): Promise<void> => {
    io.out(`\n${c.cyan(say)}\n${c.dim('$')} ${c.bold(`barrow ${argv.map(quote).join(' ')}`)}\n`);
    const code = await run(argv, io);
    if (!expect.includes(code)) throw failed(`\`barrow ${argv.join(' ')}\` ended with ${code}, ${expect.join(' or ')} was expected.`);
  };
  const plan = ['--wave', `trial: ${trial.join(', ')}`, '--rest', '20%,30%,25%', '--at-once', '6', '--per-site', '3'];
  const gate = [
    '--soak',
    `${Math.max(3, Math.round(400 / scale))}s`,
    '--failure-limit',
    '5',
    '--failure-share',
    '60%',
    '--unsaved',
    'save',
    '--way-back',
  ];
  await act('Friday evening: everything that is behind, on all six sites, in five waves.', [
    'rollout',
    'plan',
    '--name',
    'Friday night',
    ...plan,
    ...gate,
  ]);
  const [planned] = await barrow.rollouts();
  const whatIf = mishaps.flatMap(({ device, asIf }) => (asIf === null ? [] : ['--if', `${device}@${asIf}`]));
  await act('Rehearsed, with what will go wrong.', ['rollout', 'rehearse', planned!.id, ...whatIf, '--go-on']);
  const rehearsed = await barrow.rehearsal(planned!.id);
  const corrected = await barrow.rehearsal(
    planned!.id,
    mishaps.flatMap(({ device, asIf }) => (asIf === null ? [] : [`${device}@${asIf}`])),
    true,
  );
  io.out('\nFive of them are about to go wrong:\n');
  for (const { device, fault, words } of mishaps) {
    const answer = await fetch(`${control}/${device}/${fault}`, { method: 'PUT' });
    if (!answer.ok) throw failed(`The fault ${fault} of ${device} could not be switched on.`);
    io.out(`  ${device} ${words}\n`);
  }
  await act('Everybody goes to sleep.', ['rollout', 'start', planned!.id, '--accept', 'all', '--follow'], [exit.done, exit.workFailed]);
  const rollout = await barrow.rollout(planned!.id);
  const [page, json] = [join(out, 'report.html'), join(out, 'report.json')];
  await act('Saturday morning: the report, for print and for who checks it.', [
    'report',
    planned!.id,
    '--format',
    'html',
    '--output',
    page,
  ]);
  await act('', ['report', planned!.id, '--format', 'json', '--output', json]);
  await act('Nobody has changed it since.', ['report', 'verify', json]);
  for (const { device } of mishaps.filter((m) => m.ends === 'failed'))
    await act(`A page for who looks at ${device}.`, ['rollout', 'page', planned!.id, device, '--output', join(out, `${device}.html`)]);
  const wrong = [...unlike(rollout), ...(await untrue(rollout, control))];
  const took = Date.parse(rollout.endedAt!) - Date.parse(rollout.startedAt!);
  const beside = Math.round((took / corrected.totalMs - 1) * 1000) / 10;
  io.out(
    [
      '',
      `${c.bold('In the morning')}: ${totalsOf(rollout)}.`,
      ...mishaps.map((m) => `  ${m.device}: ${rollout.runs.find((r) => r.name === m.device)?.outcome ?? 'not ended'}; it ${m.words}`),
      `It was rehearsed to take ${duration(rehearsed.totalMs)}, with what went wrong ${duration(corrected.totalMs)}, and took ${duration(took)}: ${Math.abs(beside)} % ${beside >= 0 ? 'more' : 'less'} than that.`,
      `The report: ${relative(process.cwd(), page)}. The console shows all of it: start the demo again without --friday.`,
      '',
    ].join('\n'),
  );
  if (wrong.length > 0) throw failed(wrong.join('; '));
}

/** What ended otherwise than it had to. */
function unlike({ runs }: Rollout): string[] {
  return runs.flatMap((r) => {
    const mishap = mishaps.find((m) => m.device === r.name);
    if (r.outcome !== (mishap?.ends ?? 'verified')) return [`${r.name} ended ${r.outcome ?? 'not at all'}: ${r.detail ?? 'no word why'}`];
    if (mishap && (r.cause?.code ?? null) !== mishap.cause) return [`${r.name} is told as ${r.cause?.code ?? 'nothing'}`];
    return [];
  });
}

/** What the devices themselves tell otherwise. */
async function untrue({ runs }: Rollout, control: string): Promise<string[]> {
  const told = (await (await fetch(control)).json()) as { name: string; runs: string; counters: { restartsInWrite: number } }[];
  const truth = new Map(told.map((d) => [d.name, d]));
  return runs.flatMap(({ name, target, from, outcome }) => {
    const device = truth.get(name);
    if (!device) return [`${name} is not in the fleet`];
    if (device.counters.restartsInWrite > 0) return [`${name} was restarted while it wrote`];
    const runsNow = outcome === 'verified' ? target : from;
    return device.runs === runsNow ? [] : [`${name} ended ${outcome}, and runs ${device.runs}`];
  });
}
