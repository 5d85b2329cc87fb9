import { rehearse, type Instant } from '@barrow/core';
import type { Context } from '../context.js';
import { AppointmentEntity, type AppointmentRow } from '../data/entities.js';
import { Refusal } from '../errors.js';
import { steadyNow } from '../steady.js';
import type { ActiveRollout } from './active.js';
import type { Runner } from './runner.js';

/** When a rollout begins by itself, and by when it is to be done; all by the clock on the wall. */
export interface Times {
  /** null: now. */
  readonly at: Instant | null;
  /** After this it does not begin any more; null: an hour after `at`. */
  readonly latest: Instant | null;
  /** From then on nothing more is begun; null: whenever it is done. */
  readonly doneBy: Instant | null;
}

/** The risks that a person accepted, and why. */
export interface Acceptance {
  readonly codes: readonly string[];
  readonly reason: string | null;
}

/** So long after its moment a rollout may still begin, where nothing else was said. */
const graceMs = 3_600_000;
/** The clock on the wall is looked at so often, for it may be set, and a machine may have slept. */
const lookMs = 20_000;
const farthestMs = 60 * 86_400_000;

const clock = (at: Instant): string => new Date(at).toISOString().replace('T', ' ').slice(0, 16);
const refusal = (code: string, why: string, next: string): Refusal => new Refusal(422, code, 'It was not started', why, next);

/** Rollouts that begin at a moment that was named, and those that are to be done by one. */
export class Appointments {
  readonly #rows = new Map<string, AppointmentRow>();
  #timer: NodeJS.Timeout | null = null;
  #looking: Promise<void> = Promise.resolve();
  #stopped = false;

  constructor(
    private readonly context: Context,
    private readonly runner: Runner,
  ) {}

  async load(): Promise<void> {
    for (const row of await this.context.db.find(AppointmentEntity)) this.#rows.set(row.rollout, row);
  }

  /** What was said of when a rollout begins and ends; null: nothing. */
  of(rollout: string): AppointmentRow | null {
    return this.#rows.get(rollout) ?? null;
  }

  /** Looks now, and from time to time. */
  resume(): void {
    this.#arm(0);
  }

  stop(): void {
    this.#stopped = true;
    if (this.#timer) clearTimeout(this.#timer);
  }

  /**
   * Has a plan begin at a moment, or now.
   *
   * @param accepted all risks of the plan that have to be accepted
   * @throws Refusal when the moments do not fit each other, or it would not be done by then
   */
  async start(active: ActiveRollout, times: Times, by: string, accepted: Acceptance): Promise<void> {
    const { plan, state } = active;
    const { at, doneBy } = times;
    const now = Date.now();
    if (state.phase !== 'planned')
      throw new Refusal(
        409,
        'rollout-not-so',
        'That cannot be done now',
        `The rollout is ${state.phase}.`,
        `\`barrow rollout show ${plan.id}\` shows how it stands.`,
      );
    if (at !== null && at <= now)
      throw refusal('time-past', `${clock(at)} (UTC) has been.`, 'Name a moment that comes, or none to begin now.');
    if (at !== null && at > now + farthestMs)
      throw refusal(
        'time-far',
        `${clock(at)} (UTC) is more than 60 days away.`,
        'Plan it nearer to that day: by then the fleet is another.',
      );
    const latest = at === null ? null : (times.latest ?? at + graceMs);
    if (at !== null && latest! <= at)
      throw refusal(
        'times-crossed',
        `It is to begin at ${clock(at)} and not after ${clock(latest!)} (UTC).`,
        'Give it some time to begin.',
      );
    if (doneBy !== null) {
      const { endsAt } = rehearse(plan, at ?? now);
      if (endsAt > doneBy)
        throw refusal(
          'done-too-late',
          `As rehearsed it ends at ${clock(endsAt)}, and it is to be done by ${clock(doneBy)} (UTC).`,
          `\`barrow rollout rehearse ${plan.id}\` shows what takes so long; plan it with more at once, or with fewer devices.`,
        );
    }
    const earlier = this.of(plan.id);
    // Kept before it begins: a service that is killed in between knows by when it is to be done.
    if (at !== null || doneBy !== null)
      await this.#keep({ rollout: plan.id, at, latest, doneBy, by, accept: [...accepted.codes], reason: accepted.reason, missed: null });
    if (at === null) {
      try {
        await this.#begin(active, by, accepted, doneBy);
      } catch (error) {
        if (earlier) await this.#keep(earlier);
        else await this.forget(plan.id);
        throw error;
      }
      if (doneBy === null) await this.forget(plan.id);
    }
    this.#arm(0);
  }

  /** It begins by itself no more. @returns whether it would have */
  async forget(rollout: string): Promise<boolean> {
    if (!this.#rows.delete(rollout)) return false;
    await this.context.db.write(async (em) => em.nativeDelete(AppointmentEntity, { rollout }));
    this.context.live.changed('rollouts');
    return true;
  }

  async #begin({ plan }: ActiveRollout, by: string, { codes, reason }: Acceptance, doneBy: Instant | null): Promise<void> {
    const said = {
      ...(codes.length > 0 ? { accepted: [...codes], ...(reason === null ? {} : { reason }) } : {}),
      ...(doneBy === null ? {} : { doneBy }),
    };
    await this.runner.say(plan.id, { kind: 'rollout-started', at: steadyNow(), by, ...said });
  }

  async #keep(row: AppointmentRow): Promise<void> {
    await this.context.db.write(async (em) => em.upsert(AppointmentEntity, row));
    this.#rows.set(row.rollout, row);
    this.context.live.changed('rollouts');
  }

  #arm(ms: number): void {
    if (this.#timer) clearTimeout(this.#timer);
    if (this.#stopped || this.#rows.size === 0) return;
    this.#timer = setTimeout(() => {
      this.#looking = this.#looking
        .then(() => this.#look())
        .catch((error: unknown) => this.context.log.error({ error }, 'what is to begin could not be looked at'))
        .then(() => this.#arm(this.#next()));
    }, ms);
    this.#timer.unref();
  }

  /** How long until something is due, at most until the next look. */
  #next(): number {
    const now = Date.now();
    const coming = [...this.#rows.values()].flatMap(({ at, doneBy, missed }) => (missed === null ? [at, doneBy] : []));
    return Math.min(lookMs, ...coming.flatMap((moment) => (moment !== null && moment > now ? [moment - now] : [])));
  }

  /** Begins what is due, holds what is overdue. */
  async #look(): Promise<void> {
    for (const row of [...this.#rows.values()]) {
      const active = await this.runner.get(row.rollout).catch(() => null);
      const phase = active?.state.phase ?? 'ended';
      if (active === null || phase === 'ended') await this.forget(row.rollout);
      else if (phase === 'planned') await this.#due(active, row);
      else if (row.doneBy !== null && Date.now() >= row.doneBy) {
        await this.forget(row.rollout);
        const reason = `it was to be done by ${clock(row.doneBy)} (UTC), and is not`;
        if (phase === 'running') await this.runner.say(row.rollout, { kind: 'held', at: steadyNow(), by: 'Barrow', reason });
      }
    }
  }

  async #due(active: ActiveRollout, row: AppointmentRow): Promise<void> {
    const { at, latest } = row;
    if (at === null || row.missed !== null || Date.now() < at) return;
    const late = Date.now() > latest!;
    try {
      if (late) throw new Error(`Barrow was not there at ${clock(at)}, and after ${clock(latest!)} (UTC) it was not to begin`);
      await this.#begin(active, row.by, { codes: row.accept, reason: row.reason }, row.doneBy);
      if (row.doneBy === null) await this.forget(row.rollout);
    } catch (error) {
      const missed = error instanceof Refusal ? error.detail : (error as Error).message;
      this.context.log.error({ rollout: row.rollout, missed }, 'a rollout did not begin when it was to');
      await this.#keep({ ...row, missed });
    }
  }
}
