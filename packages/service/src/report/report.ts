import {
  climbedOf,
  legsOf,
  passageOf,
  rehearse,
  rehearseWith,
  rungText,
  stepsOf,
  type Check,
  type JournalEntry,
  type Mishap,
  type Plan,
  type PlannedLeg,
  type PlannedRun,
  type Report,
  type StepName,
} from '@barrow/core';
import { rfc3339, rfc3339OrNull } from '../context.js';
import type { ImageRow } from '../data/entities.js';
import type { ActiveRollout } from '../runner/active.js';
import { traceOf, trailOf, type Trail } from '../runner/trail.js';
import { causeView, hazardsView, summaryView, triedView } from '../runner/view.js';

/** What came of the attempts before the last: a retry forgets neither why one failed, nor what was done to the device. */
function earlierOf(plan: Plan, run: PlannedRun, entries: readonly JournalEntry[]): Pick<Report['runs'][number], 'earlier'> {
  const changing = new Set(
    stepsOf(plan, run)
      .filter((s) => s.pastReturn && (s.writes || s.down) && !s.waits)
      .map((s) => s.step),
  );
  const earlier: NonNullable<Report['runs'][number]['earlier']> = [];
  let failed: { at: number; cause: string; detail: string } | null = null;
  let changed = new Set<string>();
  for (const { event } of entries)
    if (event.kind === 'step-begun' && changing.has(event.step)) changed.add(event.step);
    else if (event.kind === 'step-failed') failed ??= { at: event.at, cause: event.cause, detail: event.detail };
    else if (event.kind === 'run-retried') {
      if (failed) earlier.push({ at: rfc3339(failed.at), cause: causeView(failed.cause)!, detail: failed.detail, changed: [...changed] });
      [failed, changed] = [null, new Set()];
    }
  return earlier.length === 0 ? {} : { earlier };
}

/** The evidence of a rollout, from its plan and journal alone. */
export function makeReport(
  active: ActiveRollout,
  journal: readonly JournalEntry[],
  images: ReadonlyMap<string, ImageRow>,
  version?: string,
): Report {
  const { plan, state } = active;
  const taken = new Map<string, Report['runs'][number]['steps']>();
  const deeds: Report['deeds'] = [];
  const soaks: NonNullable<Report['soaks']> = [];
  const asked = new Set<string>();
  const nameOf = new Map(plan.runs.map((r) => [r.id, r.name]));
  const entriesOf = new Map<string, JournalEntry[]>();
  for (const entry of journal) {
    const { event } = entry;
    if ('run' in event && event.run !== undefined) {
      const list = entriesOf.get(event.run);
      if (list) list.push(entry);
      else entriesOf.set(event.run, [entry]);
    }
    const at = rfc3339(event.at);
    // What followed from a word is told once, with the word.
    if (event.kind === 'skip-asked') asked.add(event.run);
    if ('by' in event && !(event.kind === 'run-skipped' && asked.delete(event.run)))
      deeds.push({ at, by: event.by, what: deedText(event, nameOf) });
    if (event.kind === 'service-started' || event.kind === 'service-stopping')
      deeds.push({
        at,
        by: 'Barrow',
        what: event.kind === 'service-started' ? 'the service was started again' : 'the service was stopped',
      });
    if (event.kind === 'soak-judged') {
      const { wave, looks, worse, findings } = event;
      soaks.push({ wave: plan.waves[wave]!.name, at, looks, worse, findings: findings.map((f) => f.text) });
    }
    if (event.kind === 'step-begun') {
      const list = taken.get(event.run) ?? [];
      taken.set(event.run, list);
      list.push({ step: event.step, leg: event.leg ?? 0, begunAt: at, endedAt: null, result: 'not known' });
    } else if (event.kind === 'step-done' || event.kind === 'step-failed' || event.kind === 'run-absent' || event.kind === 'reconciled') {
      const last = taken.get(event.run)?.at(-1);
      if (last) {
        last.endedAt = at;
        last.result =
          event.kind === 'step-done'
            ? 'done'
            : event.kind === 'step-failed' || event.kind === 'run-absent'
              ? event.cause
              : `${event.truth}, asked after a restart of the service`;
      }
    } else if (event.kind === 'leg-proven' || event.kind === 'leg-skipped' || event.kind === 'run-skipped') {
      const last = taken.get(event.run)?.at(-1);
      if (last?.endedAt === null) Object.assign(last, { endedAt: at, result: event.reason });
    }
  }
  const climbed = climbedOf(
    plan,
    journal.map(({ event }) => event),
  );
  const used = new Set(plan.runs.flatMap((r) => legsOf(plan, r).map((l) => l.image)));
  return {
    rollout: summaryView(active),
    madeAt: rfc3339(Date.now()),
    ...(version === undefined ? {} : { madeBy: `Barrow ${version}` }),
    images: [...used].flatMap((sha256) => {
      const image = images.get(sha256);
      return image ? [{ sha256, file: image.file, version: image.version, bytes: image.bytes }] : [];
    }),
    runs: plan.runs.map((run, index) => {
      const now = state.runs[index]!;
      const legs = partsOf(plan, run);
      const trail = trailOf(entriesOf.get(run.id) ?? [], legsOf(plan, run).length);
      const fact = (leg: number, step: StepName, key: string): unknown => traceOf(trail, step, leg)?.facts[key];
      const text = (value: unknown): string | null => (typeof value === 'string' ? value : null);
      /** What the last leg that found it says. */
      const last = (step: StepName, key: string): string | null =>
        legs.reduce((found: string | null, _, leg) => text(fact(leg, step, key)) ?? found, null);
      const restart = stepsOf(plan, run).find((s) => s.down && !s.waits)?.step ?? 'reboot';
      const down = legs.flatMap((_, leg) => {
        const sentAt = fact(leg, restart, 'sentAt') ?? traceOf(trail, restart, leg)?.begunAt;
        const answeredAt = fact(leg, 'return', 'answeredAt');
        return typeof sentAt === 'number' && typeof answeredAt === 'number' ? [Math.max(0, answeredAt - sentAt)] : [];
      });
      return {
        device: run.device,
        name: run.name,
        address: run.address,
        site: run.site,
        serial: run.serial,
        outcome: now.outcome,
        cause: causeView(now.cause),
        detail: now.detail,
        before: run.from,
        // One whose checks were never made has told its version when it came back.
        after: last('checks', 'firmware') ?? last('return', 'firmware'),
        target: run.target,
        image: run.image,
        digestOnDevice: last('verify-image', 'digestOnDevice'),
        // As it was before anything was changed.
        backup: text(fact(0, 'backup', 'sha256')) ?? last('backup', 'sha256'),
        begunAt: rfc3339OrNull(now.begunAt),
        endedAt: rfc3339OrNull(now.endedAt),
        downMs: down.length > 0 ? down.reduce((sum, ms) => sum + ms, 0) : null,
        steps: taken.get(run.id) ?? [],
        checks: checksOf(plan, run, trail),
        attempts: now.attempt,
        ...earlierOf(plan, run, entriesOf.get(run.id) ?? []),
        tried: triedView(passageOf(plan, run), now).map(({ text: by, step, cause, detail }) => ({ text: by, step, cause, detail })),
        rungs: (climbed.get(run.id) ?? []).map(({ rung, cause, detail, by, begunAt, endedAt, failed, unsure }) => ({
          text: rungText(passageOf(plan, run).rungs[rung]!.means),
          for: { cause: causeView(cause)!, detail },
          by,
          begunAt: rfc3339(begunAt),
          endedAt: rfc3339OrNull(endedAt),
          failed: failed && { cause: causeView(failed.cause)!, detail: failed.detail },
          unsure,
        })),
      };
    }),
    leftOut: [...plan.leftOut],
    deeds,
    ...besideOf(active, journal),
    ...acceptedOf(plan, journal),
    ...(soaks.length > 0 ? { soaks } : {}),
  };
}

/** A plan of more devices is not rehearsed for a report: that would take longer than to read it. */
const mostRehearsed = 2000;

/** The first failure of each run, which a simulation has to know to be compared with what happened. */
function failuresOf(plan: Plan, journal: readonly JournalEntry[]): Mishap[] {
  const runs = new Map(plan.runs.map((r) => [r.id, r]));
  const first = new Map<string, Mishap>();
  for (const { event } of journal) {
    if ((event.kind !== 'step-failed' && event.kind !== 'run-absent') || first.has(event.run)) continue;
    const run = runs.get(event.run);
    if (run) first.set(event.run, { run, step: event.kind === 'step-failed' ? event.step : 'preflight', cause: event.cause });
  }
  return [...first.values()];
}

/** How long it took beside its simulations, without and with the failures that it met; nothing while it has not ended. */
function besideOf({ plan, state }: ActiveRollout, journal: readonly JournalEntry[]): Pick<Report, 'beside'> {
  const { startedAt, endedAt } = state;
  if (startedAt === null || endedAt === null || plan.runs.length > mostRehearsed) return {};
  const told = rehearse(plan, startedAt);
  const failures = failuresOf(plan, journal);
  const failed = failures.length === 0 ? null : rehearseWith(plan, startedAt, failures, true);
  /** A simulation that comes to a stand, or opens fewer waves, says nothing of how long it takes. */
  const same = failed !== null && failed.stuck === null && failed.waves.length === told.waves.length ? failed : null;
  const of = (kind: 'wave-opened' | 'wave-ended', wave: number): number | undefined =>
    journal.findLast(({ event }) => event.kind === kind && event.wave === wave)?.event.at;
  return {
    beside: {
      rehearsedMs: Math.round(told.endsAt - told.beginsAt),
      ...(same === null ? {} : { withFailuresMs: Math.round(same.endsAt - same.beginsAt) }),
      tookMs: Math.round(endedAt - startedAt),
      waves: told.waves.map(({ wave, opensAt, endsAt }, nth) => {
        const [opened, ended] = [of('wave-opened', wave), of('wave-ended', wave)];
        return {
          wave: plan.waves[wave]!.name,
          rehearsedMs: Math.round(endsAt - opensAt),
          ...(same === null ? {} : { withFailuresMs: Math.round(same.waves[nth]!.endsAt - same.waves[nth]!.opensAt) }),
          tookMs: opened === undefined || ended === undefined ? null : Math.round(ended - opened),
        };
      }),
    },
  };
}

/** Who accepted which hazard. */
function acceptedOf(plan: Plan, journal: readonly JournalEntry[]): Pick<Report, 'accepted'> {
  const started = journal.map((e) => e.event).find((e) => e.kind === 'rollout-started');
  if (started?.kind !== 'rollout-started' || !started.accepted?.length) return {};
  const told = new Map(hazardsView(plan).map((h) => [h.code as string, h]));
  return {
    accepted: started.accepted.map((hazard) => ({
      hazard,
      what: told.get(hazard)?.what ?? hazard,
      by: started.by,
      ...(started.reason === undefined ? {} : { reason: started.reason }),
      devices: new Set(told.get(hazard)?.groups.flatMap((g) => g.devices)).size,
    })),
  };
}

/** What was compared after each leg of a run; with several legs, each named by the version that it brought. */
export function checksOf(plan: Plan, run: PlannedRun, trail: Trail): Report['runs'][number]['checks'] {
  const count = legsOf(plan, run).length;
  return partsOf(plan, run).flatMap(({ to }, leg) => {
    // One that was begun anew may be compared by its preflight.
    const facts = (traceOf(trail, 'checks', leg) ?? traceOf(trail, 'preflight', leg))?.facts;
    const made = (facts?.['checks'] as Check[] | undefined) ?? [];
    const named = (c: Check): string => (leg >= count ? `back to ${to}: ${c.name}` : count > 1 ? `${to}: ${c.name}` : c.name);
    return made.map((c) => ({ ...c, name: named(c), evidence: [...c.evidence] }));
  });
}

/** The legs of a run, and what its rungs bring back, as its steps number them. */
const partsOf = (plan: Plan, run: PlannedRun): PlannedLeg[] => [
  ...legsOf(plan, run),
  ...passageOf(plan, run).rungs.flatMap((r) => (r.takes ? [r.takes] : [])),
];

function deedText(event: Extract<JournalEntry['event'], { by: string }>, nameOf: ReadonlyMap<string, string>): string {
  switch (event.kind) {
    case 'rollout-started':
      return `started the rollout${event.accepted ? `, and accepted ${event.accepted.join(', ')}` : ''}`;
    case 'held':
      return `held the rollout: ${event.reason}`;
    case 'wave-held':
      return `held wave ${event.wave + 1} back: ${event.reason}`;
    case 'wave-freed':
      return `had wave ${event.wave + 1} opened when its turn comes`;
    case 'continued':
      return 'continued the rollout';
    case 'approved':
      return `approved wave ${event.wave + 1}`;
    case 'stop-asked':
      return 'asked the rollout to stop';
    case 'skip-asked':
      return `asked to leave ${nameOf.get(event.run) ?? event.run} out: ${event.reason}`;
    case 'run-skipped':
      return `skipped ${nameOf.get(event.run) ?? event.run}: ${event.reason}`;
    case 'run-released':
      return `released ${nameOf.get(event.run) ?? event.run}: ${event.reason}`;
    case 'take-back-asked':
      return `had ${nameOf.get(event.run) ?? event.run} taken back${event.cutsOff ? ', and accepted that others lose their power with it' : ''}`;
    case 'run-retried':
      return `retried ${nameOf.get(event.run) ?? event.run}`;
    case 'person-answered':
      return `answered what was asked for ${nameOf.get(event.run) ?? event.run}`;
    case 'noted':
      return `noted: ${event.text}`;
  }
}
