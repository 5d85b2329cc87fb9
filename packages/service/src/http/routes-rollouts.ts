import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  lastPlanSchema,
  legsOf,
  differencesFrom,
  inputOfFile,
  planFile,
  limitsAsked,
  planFileOf,
  planInput,
  foretoldSchema,
  wayBackAheadSchema,
  rehearsalSchema,
  expectedSchema,
  expectedSeenSchema,
  soakSchema,
  timelineSchema,
  causes,
  legSteps,
  meantName,
  passageOf,
  chainOf,
  groupsOf,
  latestBegin,
  leastOf,
  rehearseWith,
  usualCause,
  type Mishap,
  reportSchema,
  rolloutChangesSchema,
  rolloutSchema,
  rolloutSummarySchema,
  runDetailSchema,
  type RolloutEvent,
} from '@barrow/core';
import { rfc3339 } from '../context.js';
import { ConversationEntity, ImageEntity } from '../data/entities.js';
import { notFound, Refusal } from '../errors.js';
import { reportCsv } from '../report/csv.js';
import { reportPage } from '../report/html.js';
import { checksOf, makeReport } from '../report/report.js';
import { steadyNow } from '../steady.js';
import { wayBackAhead, wayBackOf } from '../runner/plan-back.js';
import { acceptedOf } from '../runner/accepting.js';
import { Foretelling } from '../runner/foretelling.js';
import { LastPlans } from '../runner/last-plan.js';
import { Timelines } from '../runner/timelines.js';
import { playedView } from '../runner/view-played.js';
import { NothingToPlan, planRollout } from '../runner/planning.js';
import type { ActiveRollout } from '../runner/active.js';
import { Changes } from '../runner/changes.js';
import { trailOf } from '../runner/trail.js';
import { changesView, rolloutView, runView, totalsOf } from '../runner/view.js';
import type { Parts } from '../parts.js';
import type { Env, Who } from './auth.js';
import { addOperation, idParam } from './operation.js';

const runParams = z.object({ id: z.string(), run: z.string() });
/** Why, where nobody says why. */
const unsaid = 'asked to';
const reason = z.strictObject({ reason: z.string().min(1).max(500).default(unsaid) });

/** The place in a plan of a device that is named by id, name, serial or address. @throws Refusal */
function runOf(active: ActiveRollout, asked: string): number {
  const index = active.plan.runs.findIndex((r) => r.id === asked || r.name === asked || r.serial === asked || r.address === asked);
  if (index < 0) throw notFound('device in this rollout', asked, `\`barrow rollout show ${active.plan.id}\` shows its devices.`);
  return index;
}

/** A mishap as it is written: DEVICE, DEVICE@STEP or DEVICE@STEP:CAUSE. @throws Refusal when that cannot happen in this plan */
function mishapOf(active: ActiveRollout, text: string): Mishap {
  const at = text.lastIndexOf('@');
  const [device, rest] = at < 0 ? [text, ''] : [text.slice(0, at), text.slice(at + 1)];
  const run = active.plan.runs[runOf(active, device)]!;
  const passage = passageOf(active.plan, run);
  const steps = [...new Set(passage.steps.slice(0, legSteps(passage)).map((s) => s.step))];
  const [asked = '', cause] = rest.split(':');
  const step = asked === '' ? (steps.includes('return') ? 'return' : steps.at(-1)!) : asked;
  const refuse = (what: string, why: string): Refusal =>
    new Refusal(
      422,
      `${what}-unknown`,
      'That cannot be imagined',
      why,
      'Write DEVICE, DEVICE@STEP or DEVICE@STEP:CAUSE, e.g. quay-sw-2@return.',
    );
  if (!steps.includes(step)) throw refuse('step', `${run.name} has no step "${step}": its steps are ${steps.join(', ')}.`);
  if (cause !== undefined && !causes.some((c) => c.code === cause))
    throw refuse('cause', `There is no cause "${cause}"${meantText(cause)}.`);
  return { run, step, cause: cause ?? usualCause(step) };
}

function meantText(cause: string): string {
  const meant = meantName(
    cause,
    causes.map((c) => c.code),
  );
  return meant === null ? '' : `: is ${meant} meant?`;
}

const askedMoment = z.iso.datetime({ offset: true }).nullable().default(null);

/** Of more devices the latest begin is not looked for: the plan is played a dozen times for it. */
const mostForLatest = 200;

/** @throws Refusal of one that was not started */
function started(active: ActiveRollout): ActiveRollout {
  if (active.state.phase !== 'planned') return active;
  throw new Refusal(
    409,
    'rollout-not-so',
    'There is nothing to foretell',
    'The rollout was not started.',
    '`barrow rollout rehearse` plays it beforehand.',
  );
}

/** Rollouts: plan, rehearse, start, watch, steer, report. */
export function rolloutRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const foretold = new Foretelling();
  const timelines = new Timelines(parts.journal, foretold);
  const { context, runner, journal } = parts;
  const { db } = context;
  const fileNames = async (): Promise<Map<string, string>> => new Map((await db.kept(ImageEntity)).map((i) => [i.sha256, i.file]));
  const lastPlans = new LastPlans(context);
  // Also a plan that cannot even be read takes the place of the last one.
  for (const path of ['/api/v1/rollouts', '/api/v1/rollouts/from-file'])
    app.use(path, async (c, next) => {
      if (c.req.method === 'POST') await lastPlans.forget(c.get('who').token);
      await next();
    });
  const epoch = String(parts.startedAt);
  const looked = new WeakMap<ActiveRollout, Changes>();
  const changesOf = (active: ActiveRollout): Changes => {
    const known = looked.get(active) ?? new Changes(active, epoch);
    looked.set(active, known);
    return known;
  };
  const view = async (active: ActiveRollout) => rolloutView(active, await fileNames(), journal.last, changesOf(active).stand);

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts',
    role: 'viewer',
    summary: 'Rollouts, newest first',
    answer: z.object({ items: z.array(rolloutSummarySchema) }),
    run: async () => ({ items: await runner.summaries(200) }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts',
    role: 'operator',
    summary: 'Plan a rollout; nothing is begun',
    body: planInput,
    answer: rolloutSchema,
    status: 201,
    run: async ({ body, who }) => {
      return lastPlans.keep(who.token, async () => {
        const back = body.backFrom === null ? null : wayBackOf(await runner.get(body.backFrom));
        return view(await runner.add(await planRollout(parts, body, who.name, back)));
      });
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/last-plan',
    role: 'viewer',
    summary: 'The plan that the last plan command of this token made; null when that was refused, or the plan was discarded',
    answer: lastPlanSchema,
    run: async ({ who }) => {
      const id = await lastPlans.of(who.token);
      const isThere = typeof id === 'string' && (await runner.get(id).catch(() => null)) !== null;
      return { rollout: isThere ? id : null, asked: id !== undefined };
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}',
    role: 'viewer',
    summary: 'One rollout, as it stands',
    params: idParam,
    answer: rolloutSchema,
    run: async ({ params }) => view(await runner.get(params.id)),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/report-key',
    role: 'viewer',
    summary: 'The public key by which this service signs its reports (Ed25519, SubjectPublicKeyInfo in base64)',
    answer: z.object({ publicKey: z.string() }),
    run: async () => ({ publicKey: parts.reportKey.publicText }),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/plan',
    role: 'viewer',
    summary: 'The plan of a rollout as a file: who in which wave, under which limits',
    params: idParam,
    answer: planFile,
    run: async ({ params }) => {
      const { plan } = await runner.get(params.id);
      const file = planFileOf(plan, rfc3339);
      if (file !== null) return file;
      throw new Refusal(
        409,
        'plan-not-kept',
        'This plan cannot be written as a file',
        plan.asked
          ? `"${plan.name}" takes devices back to what they ran before another rollout.`
          : `"${plan.name}" was planned by an earlier Barrow, which did not keep all that was asked for.`,
        plan.asked ? 'Plan the way back anew where it is needed: `barrow rollout plan-back`.' : 'Plan it anew, and write that plan.',
      );
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/from-file',
    role: 'operator',
    summary: 'Plan anew what a file of a plan says; what is otherwise today stands in the remarks. Nothing is begun',
    body: planFile,
    answer: rolloutSchema,
    status: 201,
    run: ({ body, who }) =>
      lastPlans.keep(who.token, async () => {
        const known = new Map(
          (await parts.devices.all()).flatMap(({ row }) => (row.serial === null ? [] : [[row.serial, row.id] as const])),
        );
        const isKnown = (serial: string): boolean => known.has(serial);
        const input = inputOfFile(body, isKnown);
        if (input.devices!.length === 0)
          throw new Refusal(
            422,
            'devices-unknown',
            'Nothing was planned',
            'No device of the file is known here, by its serial.',
            'Discover them first, or take a file of this network.',
          );
        const plan = await planRollout(parts, input, who.name);
        const remarks = [...differencesFrom(body, plan, (serial) => known.get(serial)), ...(plan.remarks ?? [])];
        return view(await runner.add({ ...plan, ...(remarks.length > 0 ? { remarks } : {}) }));
      }),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/changes',
    role: 'viewer',
    summary: 'What has changed in a rollout since it was last looked at, by the `stand` of that answer',
    params: idParam,
    query: z.strictObject({ since: z.string() }),
    answer: rolloutChangesSchema,
    run: async ({ params, query }) => {
      const active = await runner.get(params.id);
      const files = await fileNames();
      const { last } = journal;
      const { changed, stand } = await changesOf(active).since(query.since);
      return changesView(active, changed, files, last, stand);
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/rollouts/{id}',
    role: 'operator',
    summary: 'Discard a plan that was not started, or give up a rollout whose journal cannot be followed',
    params: idParam,
    answer: z.object({ removed: z.string() }),
    run: async ({ params }) => ({ removed: (await runner.discard(params.id)).plan.name }),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/rehearsal',
    role: 'viewer',
    summary: 'What would happen and when, by the very rules that the runner obeys',
    params: idParam,
    query: z.object({
      fails: z
        .string()
        .max(2000)
        .optional()
        .describe('Devices that are imagined to fail, with commas between them: DEVICE, DEVICE@STEP or DEVICE@STEP:CAUSE.'),
      goesOn: z.stringbool().default(false).describe('Whether a person has it go on as soon as it is held.'),
    }),
    answer: rehearsalSchema,
    run: async ({ params, query }) => {
      const active = await runner.get(params.id);
      const mishaps = (query.fails ?? '').split(',').flatMap((text) => (text.trim() === '' ? [] : [mishapOf(active, text.trim())]));
      const r = rehearseWith(active.plan, Date.now(), mishaps, query.goesOn);
      const latest =
        mishaps.length === 0 && active.plan.runs.length <= mostForLatest
          ? latestBegin(active.plan, r.beginsAt, parts.appointments.of(active.plan.id)?.doneBy ?? null)
          : null;
      return {
        beginsAt: rfc3339(r.beginsAt),
        endsAt: rfc3339(r.endsAt),
        totalMs: r.endsAt - r.beginsAt,
        mostAtOnce: r.mostAtOnce,
        mostDown: r.mostDown,
        approvals: [...r.approvals],
        ifs: mishaps.map((m) => `${m.run.name} fails at ${m.step} (${m.cause})`),
        holds: r.holds.map((h) => ({ at: rfc3339(h.at), because: h.because })),
        devices: active.plan.runs.length,
        totals: totalsOf(r.ended),
        stuck: r.stuck,
        ...playedView(active.plan, r),
        chain: groupsOf(chainOf(r)).map((g) => ({
          ...g,
          names: [...g.names],
          parts: [...g.parts],
          from: rfc3339(g.from),
          until: rfc3339(g.until),
        })),
        leastMs: leastOf(active.plan, r),
        latest: latest && { begin: rfc3339(latest.begin), by: rfc3339(latest.by) },
      };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/way-back',
    role: 'viewer',
    summary: 'How the whole of a plan could be taken back again, once it was brought: planned and rehearsed before it has begun',
    params: idParam,
    answer: wayBackAheadSchema,
    run: async ({ params, who }) => {
      const { plan } = await runner.get(params.id);
      try {
        const back = await planRollout(parts, { ...limitsAsked(plan), first: 0, soakSeconds: 0 }, who.name, wayBackAhead(plan));
        const { beginsAt, endsAt, stuck } = rehearseWith(back, Date.now(), [], true);
        return {
          devices: back.runs.length,
          takesMs: endsAt - beginsAt,
          stuck,
          leftOut: back.leftOut.map(({ name, reason }) => ({ name, reason })),
        };
      } catch (error) {
        if (!(error instanceof NothingToPlan)) throw error;
        return { devices: 0, takesMs: 0, stuck: null, leftOut: error.leftOut.map(({ name, reason }) => ({ name, reason })) };
      }
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/foretold',
    role: 'viewer',
    summary: 'When a rollout that was started comes to its end, as it stands, or came to it; and when it would have by its rehearsal',
    params: idParam,
    answer: foretoldSchema,
    run: async ({ params }) => {
      const active = await runner.get(params.id);
      const { plan } = started(active);
      const told = foretold.of(active);
      return {
        endsAt: rfc3339(told.endsAt),
        plannedEndsAt: rfc3339(told.plannedEndsAt),
        approvals: told.approvals.map((wave) => plan.waves[wave]!.name),
        stuck: told.stuck,
        held: told.held,
      };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/soaks',
    role: 'viewer',
    summary: 'What devices showed while they soaked, beside some that nobody touched',
    params: idParam,
    answer: z.object({ items: z.array(soakSchema) }),
    run: async ({ params }) => {
      const { plan } = await runner.get(params.id);
      const { entries } = await parts.journal.ofKind(params.id, 'soak-judged');
      return {
        items: entries.flatMap(({ event }) =>
          event.kind === 'soak-judged' ? [{ ...event, at: rfc3339(event.at), name: plan.waves[event.wave]!.name }] : [],
        ),
      };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/timeline',
    role: 'viewer',
    summary: 'What happened in a rollout until now, what is foretold of the rest, and what its rehearsal said',
    params: idParam,
    answer: timelineSchema,
    run: async ({ params }) => {
      const active = await runner.get(params.id);
      const { plan, state } = started(active);
      const { runs, waves } = await timelines.of(active);
      const told = foretold.of(active);
      return {
        now: rfc3339(state.endedAt ?? told.at),
        beginsAt: rfc3339(state.startedAt ?? told.at),
        endsAt: rfc3339(told.endsAt),
        ...playedView(plan, { runs, waves }),
        rehearsed: {
          endsAt: rfc3339(told.plannedEndsAt),
          runs: told.rehearsed.runs.map(({ run, beginsAt, endsAt }) => ({ run, beginsAt: rfc3339(beginsAt), endsAt: rfc3339(endsAt) })),
        },
        stuck: told.stuck,
      };
    },
  });

  const saying = <B extends z.ZodType>(
    word: string,
    summary: string,
    body: B,
    event: (given: z.output<B>, who: Who) => RolloutEvent,
    /** Refuses what means nothing for this rollout. */
    fits: (given: z.output<B>, active: ActiveRollout) => void = () => undefined,
  ): void =>
    addOperation(app, {
      method: 'post',
      path: `/api/v1/rollouts/{id}/${word}`,
      role: 'operator',
      summary,
      params: idParam,
      body,
      answer: rolloutSchema,
      run: async ({ params, body: given, who }) => {
        fits(given as z.output<B>, await runner.get(params.id));
        return view(await runner.say(params.id, event(given as z.output<B>, who)));
      },
    });
  const nothing = z.strictObject({});
  const now = (): number => steadyNow();
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/start',
    role: 'operator',
    summary: 'Start a rollout, with its risks accepted by name; `all` accepts whatever has to be accepted',
    params: idParam,
    body: z.strictObject({
      accept: z.array(z.string().max(60)).max(50).default([]),
      /** Why the risks are accepted, for the report; null: no reason. */
      reason: z.string().trim().min(1).max(500).nullable().default(null),
      /** When it begins; null: now. */
      at: askedMoment,
      /** After this it does not begin any more; null: an hour after `at`. */
      latest: askedMoment,
      /** From then on nothing more is begun; refused where its rehearsal ends later. */
      doneBy: askedMoment,
    }),
    answer: rolloutSchema,
    run: async ({ params, body, who }) => {
      const active = await runner.get(params.id);
      const accepted = active.state.phase === 'planned' ? acceptedOf(active.plan, body.accept) : [];
      const { at, latest, doneBy } = body;
      const instant = (moment: string | null): number | null => (moment === null ? null : Date.parse(moment));
      const times = { at: instant(at), latest: instant(latest), doneBy: instant(doneBy) };
      await parts.appointments.start(active, times, who.name, { codes: accepted, reason: body.reason });
      return view(active);
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/start-not',
    role: 'operator',
    summary: 'A plan that was to begin at a moment does not begin by itself any more',
    params: idParam,
    body: nothing,
    answer: rolloutSchema,
    run: async ({ params }) => {
      const active = await runner.get(params.id);
      if (active.state.phase !== 'planned' || !(await parts.appointments.forget(params.id)))
        throw new Refusal(
          409,
          'rollout-not-so',
          'That cannot be done now',
          'It was not to begin by itself.',
          `\`barrow rollout show ${params.id}\` shows how it stands.`,
        );
      return view(active);
    },
  });
  const ofWave = z.number().int().min(0).optional();
  saying(
    'hold',
    'Begin nothing more; runs past their point of no return go on. With a wave: that one alone is not opened',
    reason.extend({ wave: ofWave }),
    ({ reason: why, wave }, who) =>
      wave === undefined
        ? { kind: 'held', at: now(), by: who.name, reason: why }
        : { kind: 'wave-held', at: now(), wave, by: who.name, reason: why },
  );
  saying(
    'continue',
    'Go on after a hold; failures seen so far are forgiven. With a wave: that one, which was held back, may be opened',
    z.strictObject({ wave: ofWave }),
    ({ wave }, who) =>
      wave === undefined ? { kind: 'continued', at: now(), by: who.name } : { kind: 'wave-freed', at: now(), wave, by: who.name },
  );
  saying('stop', 'End early: runs not past their point of no return are withdrawn', nothing, (_, who) => ({
    kind: 'stop-asked',
    at: now(),
    by: who.name,
  }));
  saying(
    'approve',
    'Give the word that a gate waits for',
    z.strictObject({ wave: z.number().int().min(0) }),
    ({ wave }, who) => ({ kind: 'approved', at: now(), by: who.name, wave }),
    ({ wave }, { plan }) => {
      if (plan.waves[wave] && !plan.waves[wave].gate.approval)
        throw new Refusal(
          409,
          'approval-not-asked',
          'Nothing was approved',
          `Wave ${wave + 1} asks for no approval.`,
          `\`barrow rollout show ${plan.id}\` shows its gates.`,
        );
    },
  );
  saying('note', 'Write a note into the journal', z.strictObject({ text: z.string().min(1).max(2000) }), ({ text }, who) => ({
    kind: 'noted',
    at: now(),
    by: who.name,
    text,
  }));

  const onRun = (word: string, summary: string, event: (run: string, who: Who, why: string) => RolloutEvent): void =>
    addOperation(app, {
      method: 'post',
      path: `/api/v1/rollouts/{id}/runs/{run}/${word}`,
      role: 'operator',
      summary,
      params: runParams,
      body: reason,
      answer: rolloutSchema,
      run: async ({ params, body, who }) => {
        const active = await runner.get(params.id);
        return view(await runner.say(params.id, event(active.plan.runs[runOf(active, params.run)]!.id, who, body.reason)));
      },
    });
  onRun('retry', 'Begin an ended run anew', (run, who) => ({ kind: 'run-retried', at: now(), run, by: who.name }));
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/runs/{run}/take-back',
    role: 'operator',
    summary:
      'Have a device that failed past its point of no return taken back to what it ran, as its plan can; with `cut-off` accepted, also by what takes the power of others',
    params: runParams,
    body: reason.extend({ accept: z.array(z.literal('cut-off')).default([]) }),
    answer: rolloutSchema,
    run: async ({ params, body, who }) => {
      const active = await runner.get(params.id);
      const run = active.plan.runs[runOf(active, params.run)]!.id;
      const accepted = body.accept.length > 0 ? { cutsOff: true as const } : {};
      return view(await runner.say(params.id, { kind: 'take-back-asked', at: now(), run, by: who.name, ...accepted }));
    },
  });
  onRun('release', 'Let go what guards a device that failed: it neither writes nor is down any more', (run, who, why) => ({
    kind: 'run-released',
    at: now(),
    run,
    by: who.name,
    reason: why,
  }));
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/runs/{run}/expect',
    role: 'operator',
    summary: 'Look at what the upgrade changed in the settings of a device; with accept, that is expected of this version step from now on',
    params: runParams,
    body: z.strictObject({ accept: z.boolean().default(false) }),
    answer: expectedSeenSchema,
    run: async ({ params, body, who }) => {
      const active = await runner.get(params.id);
      return parts.expected.see(active, active.plan.runs[runOf(active, params.run)]!.id, body.accept ? { by: who.name } : null);
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/expected-differences',
    role: 'viewer',
    summary: 'Which differences of settings are expected of which version step, secrets hidden',
    answer: z.object({ items: z.array(expectedSchema) }),
    run: async () => ({ items: await parts.expected.list() }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/expected-differences/forget',
    role: 'operator',
    summary: 'The differences of a version step are told again',
    body: z.strictObject({ family: z.string().min(1), from: z.string().min(1), to: z.string().min(1) }),
    answer: z.object({ items: z.array(expectedSchema) }),
    run: async ({ body }) => {
      await parts.expected.forget(body);
      return { items: await parts.expected.list() };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/runs/{run}/done',
    role: 'operator',
    summary: 'Say that what a person was asked to do is done',
    params: runParams,
    body: z.strictObject({ note: z.string().max(500).default('') }),
    answer: rolloutSchema,
    run: async ({ params, body, who }) => {
      const active = await runner.get(params.id);
      return view(await runner.done(params.id, active.plan.runs[runOf(active, params.run)]!.id, { by: who.name, note: body.note }));
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/rollouts/{id}/runs/{run}/answer',
    role: 'operator',
    summary: 'Answer what a person was asked to tell',
    params: runParams,
    body: z.strictObject({ answer: z.string().trim().min(1).max(500) }),
    answer: rolloutSchema,
    run: async ({ params, body, who }) => {
      const active = await runner.get(params.id);
      const run = active.plan.runs[runOf(active, params.run)]!.id;
      return view(await runner.done(params.id, run, { by: who.name, note: '', answer: body.answer }));
    },
  });
  onRun('take-over', 'A person does this one by hand: Barrow leaves it alone until it is retried', (run, who, why) => ({
    kind: 'skip-asked',
    at: now(),
    run,
    by: who.name,
    reason: `${who.name} does it by hand${why === unsaid ? '' : `: ${why}`}`,
  }));
  onRun('skip', 'Leave a device out before its point of no return, as soon as the step in hand may be left', (run, who, why) => ({
    kind: 'skip-asked',
    at: now(),
    run,
    by: who.name,
    reason: why,
  }));

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/runs/{run}',
    role: 'viewer',
    summary: "One device's passage: its events, checks and conversations, secrets hidden",
    params: runParams,
    answer: runDetailSchema,
    run: async ({ params }) => {
      const active = await runner.get(params.id);
      const index = runOf(active, params.run);
      const run = active.plan.runs[index]!;
      const { entries } = await journal.ofRun(params.id, run.id);
      const rows = await db.find(ConversationEntity, { rollout: params.id, run: run.id }, { orderBy: { id: 'asc' }, limit: 100 });
      return {
        run: runView(active, index, await fileNames()),
        events: entries,
        checks: checksOf(active.plan, run, trailOf(entries, legsOf(active.plan, run).length)),
        conversations: rows.map((r) => ({ step: r.step, at: rfc3339(r.at), text: r.text })),
      };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/rollouts/{id}/report',
    role: 'viewer',
    summary: 'The evidence; also as /report.html and /report.csv',
    params: idParam,
    answer: reportSchema,
    run: async ({ params }) => report(params.id),
  });
  const report = async (id: string) => {
    const active = await runner.get(id);
    const images = new Map((await db.find(ImageEntity)).map((i) => [i.sha256, i]));
    const { entries } = await journal.of(id);
    const { seq } = entries.at(-1) ?? { seq: 0 };
    return parts.reportKey.signed(makeReport(active, entries, images, parts.version), {
      last: seq,
      head: (await journal.headAt(id, seq)) ?? null,
    });
  };
  app.get('/api/v1/rollouts/:id/report.html', async (c) => c.html(reportPage(await report(c.req.param('id')))));
  app.get('/api/v1/rollouts/:id/sheet.html', async (c) => c.html(await parts.sheets.page(await runner.get(c.req.param('id')))));
  app.get('/api/v1/rollouts/:id/runs/:run/at-site.html', async (c) => {
    const active = await runner.get(c.req.param('id'));
    return c.html(await parts.sheets.atSite(active, active.plan.runs[runOf(active, c.req.param('run'))]!.id));
  });
  app.get('/api/v1/rollouts/:id/report.csv', async (c) =>
    c.body(reportCsv(await report(c.req.param('id'))), 200, { 'content-type': 'text/csv; charset=utf-8' }),
  );
}
