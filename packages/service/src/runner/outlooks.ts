import { CauseError, compareOutlooks, emptyOutlook, nobodyExcused, safeText, type Check, type Excused, type Outlook } from '@barrow/core';
import { ownNow, ownPause } from '@barrow/wire';
import { z } from 'zod';
import { readOutlook } from '../touch/outlook.js';
import { DeviceEntity } from '../data/entities.js';
import { hideSecrets } from '../touch/secrets.js';
import { Touch } from '../touch/touch.js';
import type { StepContext } from './steps/step.js';

/** How long what is around it may take to come back, in the device's time, and in ours at least. */
const patience = { theirs: 300_000, least: 5000 };
/** So often a login is tried that was accepted before and is refused: more might lock the account. */
const mostRefusals = 2;
const longestLine = 400;
const mostComplaints = 500;

/** How a complaint of a log stands among what is expected of a version step, so that it is told from a line of settings. */
export const inLog = 'log: ';

/** Between two looks, in ours at least, and in the device's time: its tables are not walked without a rest. */
const between = { theirs: 5000, least: 500 };

const outlookShape: z.ZodType<Outlook, unknown> = z.object({
  ports: z.array(z.object({ name: z.string(), bundle: z.string().nullable(), tunnel: z.literal(true).optional() })),
  neighbours: z.array(z.object({ port: z.string().nullable(), name: z.string(), mac: z.string().nullable() })),
  fed: z.array(z.string()),
  learned: z.number().nullable(),
  routes: z.number().nullable(),
  root: z.object({ priority: z.number(), mac: z.string() }).nullable(),
  tree: z.array(z.object({ port: z.string(), state: z.enum(['blocking', 'moving', 'forwarding']) })).default([]),
  clockOffMs: z.number().nullable(),
  ours: z.object({ wall: z.number(), up: z.number() }).nullable().default(null),
  doors: z.array(z.string()),
  logins: z.array(z.string()).default([]),
  picture: z.object({ there: z.boolean(), detail: z.string() }).nullable(),
  calls: z.object({ status: z.number().int(), reason: z.string() }).nullable().default(null),
  children: z.array(z.object({ name: z.string(), serial: z.string() })).nullable(),
  recorded: z
    .array(z.object({ name: z.string(), serial: z.string() }))
    .nullable()
    .default(null),
  particulars: z
    .object({
      settingsFrom: z.string().nullable(),
      bootList: z.array(z.object({ image: z.string(), usable: z.boolean() })).nullable(),
      licences: z.array(z.string()).nullable(),
      complaints: z.array(z.string()).nullable(),
    })
    .nullable()
    .default(null),
});

/** What it shows now; one that is handled through another shows nothing of its own but whether it is recorded there. */
export async function outlookNow(step: StepContext, session: Touch, wish: Parameters<typeof readOutlook>[3] = {}): Promise<Outlook> {
  const { context, device, family, run, signal } = step;
  if (run.via !== undefined) {
    const { recorded = null } = (await childrenOf(session)) ?? {};
    return { ...emptyOutlook, recorded: recorded?.filter((c) => c.serial === run.serial) ?? null };
  }
  const outlook = await readOutlook(context, device, family, wish, signal);
  const told = family.procedures.children ? await childrenOf(session) : emptyOutlook;
  const recorded = told?.recorded ?? (await recordedBy(step));
  // What was not waited for any more is not what it showed.
  if (signal.aborted) throw new CauseError('session-lost', 'the service is stopping');
  return { ...outlook, children: told?.children ?? null, recorded, particulars: await particularsOf(step, session) };
}

/** What it tells of itself besides its record; null where its family asks for none, or it does not tell it now. */
async function particularsOf({ family }: StepContext, session: Touch): Promise<Outlook['particulars']> {
  if (!session.can('particulars')) return null;
  try {
    const { gives, tables } = await session.run('particulars');
    const column = (table: string, name: string): string[] | null =>
      tables[table]?.flatMap((row) => (row[name] === undefined || row[name] === '' ? [] : [safeText(row[name], longestLine)])) ?? null;
    return {
      settingsFrom: gives['settingsFrom'] ?? null,
      bootList:
        tables['bootList']?.map((r) => ({
          image: r['image'] ?? '',
          usable: r['usable'] === undefined || r['usable'] === r['usableWhen'],
        })) ?? null,
      licences: column('licences', 'name'),
      complaints:
        column('log', 'line')
          ?.map((line) => hideSecrets(line, family))
          .slice(-mostComplaints) ?? null,
    };
  } catch (error) {
    if (error instanceof CauseError) return null;
    throw error;
  }
}

/** Whether the recorder that it is with records it; null where there is none, or it does not tell. */
async function recordedBy({ context, device, run, signal }: StepContext): Promise<Outlook['recorded']> {
  const recorder = device.parent === null ? null : await context.db.findOne(DeviceEntity, { id: device.parent, kind: 'recorder' });
  const family = context.families.get(recorder?.family ?? '');
  if (!recorder || recorder.address === '' || !family) return null;
  const session = new Touch(context, recorder, family, { signal });
  try {
    return (await childrenOf(session))?.recorded?.filter((c) => c.serial === run.serial) ?? null;
  } finally {
    session.close();
  }
}

/** Those that are with it, and whose pictures it records; null where it does not tell them now, or never. */
async function childrenOf(session: Touch): Promise<Pick<Outlook, 'children' | 'recorded'> | null> {
  if (!session.can('children')) return null;
  try {
    const { tables } = await session.run('children');
    const there = (tables['children'] ?? []).filter((c) => c['present'] === undefined || c['present'] === c['presentWhen']);
    const named = (rows: typeof there) =>
      rows.flatMap(({ name = '', serial = '' }) => (serial === '' ? [] : [{ name: name || serial, serial }]));
    const recording = there.filter((c) => c['recording'] !== undefined);
    return {
      children: named(there),
      recorded: recording.length === 0 ? null : named(recording.filter((c) => c['recording'] === c['recordingWhen'])),
    };
  } catch (error) {
    if (error instanceof CauseError) return null;
    throw error;
  }
}

/**
 * What it showed as late as possible before it was changed; null when nobody looked. Of one that is taken back that is what it showed
 * before the leg that failed, and not what it shows since.
 */
export function outlookBefore({ trail }: Pick<StepContext, 'trail'>): Outlook | null {
  for (const of of [trail.ofLeg, trail.get])
    for (const name of ['reboot', 'activate', 'preflight']) {
      const read = outlookShape.safeParse(of(name)?.facts['outlook']);
      if (read.success) return read.data;
    }
  return null;
}

/** What is around it against what was before, each given its time to come back; nothing where nobody looked before. */
export async function outlookCompared(step: StepContext, session: Touch): Promise<Check[]> {
  const before = outlookBefore(step);
  if (before === null) return [];
  const until = ownNow() + Math.max(patience.least, patience.theirs / step.context.options.timeScale);
  if (step.leg.removes?.includes('snmp-v2c')) await step.askAnew();
  const refusals = new Map<string, number>(before.logins.map((door) => [door, 0]));
  const opened = new Set<string>();
  for (;;) {
    // A camera is asked for its picture with its login, each time; elsewhere to have been let in once is enough.
    const isLeft = (door: string): boolean => refusals.get(door)! < mostRefusals && (door === 'ONVIF' || !opened.has(door));
    const logins = before.logins.filter(isLeft);
    const seen = await outlookNow(step, session, { doors: before.doors, logins, picture: before.picture !== null });
    for (const door of logins)
      if (seen.logins.includes(door)) opened.add(door);
      else if (seen.refusedLogins?.includes(door)) refusals.set(door, refusals.get(door)! + 1);
    const after = { ...seen, logins: before.logins.filter((door) => opened.has(door)) };
    const removes = step.leg.removes ?? [];
    const made = compareOutlooks(before, after, { ...nobodyExcused, removes });
    if (made.every((c) => c.result === 'passed')) return made;
    // Only when it matters it is asked who is missing for a reason of their own.
    const judged = compareOutlooks(before, after, { ...(await excusedOf(step, before)), removes });
    if (judged.every((c) => c.result === 'passed') || ownNow() >= until || step.signal.aborted) return judged;
    await ownPause(Math.max(between.least, between.theirs / step.context.options.timeScale), step.signal);
  }
}

/** Those around it that are being changed too, or were and came to no good end. */
async function excusedOf({ run, device, leg, family, expected, around, troubled }: StepContext, before: Outlook): Promise<Excused> {
  const others = troubled(run.device);
  const { from, to } = leg;
  const accepted = await expected.of({ family: family.family, from, to });
  const complaints = new Set([...accepted].flatMap((line) => (line.startsWith(inLog) ? [line.slice(inLog.length)] : [])));
  if (others.size === 0) return { ...nobodyExcused, complaints };
  const ports = new Map<string, string>();
  const names = new Map<string, string>();
  for (const { device, name, mac, port } of await around(run.device)) {
    const why = others.get(device);
    if (why === undefined) continue;
    if (port !== null) ports.set(port, why);
    names.set(name, why);
    if (mac !== null) names.set(mac, why);
  }
  // A recorder that is away says of nobody whether it is recorded.
  const recorder = device.parent === null ? undefined : others.get(device.parent);
  if (recorder !== undefined) names.set(run.serial, `of what it is with: ${recorder}`);
  for (const n of before.neighbours) {
    const why = names.get(n.name) ?? (n.mac === null ? undefined : names.get(n.mac));
    if (why !== undefined && n.port !== null) ports.set(n.port, why);
  }
  return { ports, names, complaints };
}
