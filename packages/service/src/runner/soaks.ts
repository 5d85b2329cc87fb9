import { judgeSoak, leastSamples, type RolloutEvent, type RolloutState, type Sample, type SoakFinding, type Twins } from '@barrow/core';
import { ownPause } from '@barrow/wire';
import { z } from 'zod';
import type { Context } from '../context.js';
import { MarkEntity, type DeviceRow } from '../data/entities.js';
import type { Devices } from '../devices/devices.js';
import { steadyNow } from '../steady.js';
import { takeSample, type LastChange } from '../touch/sample.js';
import type { ActiveRollout } from './active.js';

/** Of each model so many are looked at, of those that were upgraded and of those that nobody touched. */
const most = { upgraded: 8, untouched: 5 };
/** A soak has so many looks, at most so often and at least so often. */
const looksInSoak = 16;
const [shortest, longest] = [250, 5 * 60_000];
/** Of each device so many looks are kept. */
const mostKept = 48;
const atOnce = 8;
/** What was seen is kept so often at most; what is seen in between, a service that dies loses. */
const keepEvery = 10_000;

const number = z.number().nullable();
const sampleShape: z.ZodType<Sample> = z.object({
  at: z.number(),
  answered: z.boolean(),
  roundTripMs: number,
  upMs: number,
  freeKb: number,
  memoryKb: number,
  load: number,
  errors: number,
  discards: number,
  flaps: number,
  neighbours: number,
  fed: number,
});
const keptShape = z.record(z.string(), z.object({ samples: z.array(sampleShape), metAt: z.number().nullable() }));

/** What was seen of one device. */
interface Seen {
  samples: Sample[];
  lastChange: LastChange | null;
  /** Since when it has been upgraded. */
  metAt: number | null;
}

interface Looking {
  readonly seen: Map<string, Seen>;
  readonly abort: AbortController;
  timer: NodeJS.Timeout | null;
  /** The round that is under way. */
  round: Promise<void>;
  /** When what was seen was kept last. */
  keptAt: number;
}

const markOf = (rollout: string): string => `soak:${rollout}`;

/** Looks at devices while they soak, beside some of the same model that nobody touched, and judges what they showed. */
export class Soaks {
  readonly #looking = new Map<string, Looking>();

  constructor(
    private readonly context: Context,
    private readonly devices: Devices,
  ) {}

  /** Begins to look, goes on, or ends it, as the rollout stands now. */
  follow(active: ActiveRollout): void {
    const { plan, state } = active;
    const wanted = state.phase !== 'planned' && state.phase !== 'ended' && isWatched(state);
    const looking = this.#looking.get(plan.id);
    if (wanted && !looking) this.#begin(active);
    if (state.phase === 'ended' && looking) {
      this.end(plan.id);
      void this.context.db
        .write(async (em) => em.nativeDelete(MarkEntity, { name: markOf(plan.id) }))
        .catch((error: unknown) => this.context.log.warn({ error }, 'what was seen in a soak could not be forgotten'));
    }
  }

  /** Looks no more, and goes on with what it has seen when the service is back. */
  async stop(): Promise<void> {
    const all = [...this.#looking];
    this.end();
    for (const [id, looking] of all)
      await this.#keep(id, looking).catch((error: unknown) => this.context.log.warn({ error }, 'what was seen in a soak is not kept'));
  }

  /** Looks no more, at a rollout or at all. */
  end(rollout?: string): void {
    for (const [id, { abort, timer }] of this.#looking) {
      if (rollout !== undefined && id !== rollout) continue;
      abort.abort();
      if (timer) clearTimeout(timer);
      this.#looking.delete(id);
    }
  }

  /**
   * What the devices of a wave showed while they soaked.
   *
   * @param lookAgain looks once more at each of them, and tells who is not as it was when it was verified
   */
  async judge(
    active: ActiveRollout,
    wave: number,
    inHand: ReadonlyMap<string, string>,
    lookAgain: () => Promise<SoakFinding[]>,
  ): Promise<RolloutEvent> {
    const looking = this.#looking.get(active.plan.id);
    if (looking) await this.#lookEnough(active, looking, inHand);
    const groups = looking ? await this.#groups(active, looking, inHand) : [];
    const findings = [...(await lookAgain()), ...judgeSoak(groups, this.context.options.timeScale), ...(await this.#unseen(active))];
    const worse = findings.filter((f) => f.verdict === 'worse');
    const text = worse.length === 0 ? null : `${worse[0]!.text}${worse.length > 1 ? ` (and ${worse.length - 1} more)` : ''}`;
    const looks = groups.reduce((sum, g) => sum + g.upgraded.reduce((n, w) => n + w.samples.length, 0), 0);
    return { kind: 'soak-judged', at: steadyNow(), wave, worse: text, findings: findings.map(written), looks };
  }

  /**
   * Who looked too seldom were we, busy or dead: the soak is over when half of the looks that it is to have were made, and by about half of
   * it later at most. One that was planned too short for them is not made longer.
   */
  async #lookEnough(active: ActiveRollout, looking: Looking, inHand: ReadonlyMap<string, string>): Promise<void> {
    const every = everyMs(active.state);
    const wanted = Math.floor(Math.min(looksInSoak, soakOf(active.state) / every) / 2);
    for (let more = wanted < leastSamples ? 0 : wanted + 2; ; more--) {
      await looking.round;
      if (more === 0 || looking.abort.signal.aborted) return;
      const groups = await this.#groups(active, looking, inHand);
      if (groups.every((g) => [...g.upgraded, ...g.untouched].every((w) => w.samples.length >= wanted))) return;
      await ownPause(every, looking.abort.signal);
    }
  }

  #begin(active: ActiveRollout): void {
    const looking: Looking = { seen: new Map(), abort: new AbortController(), timer: null, round: Promise.resolve(), keptAt: steadyNow() };
    this.#looking.set(active.plan.id, looking);
    // Whoever judges waits for it: all that was seen may be what is kept.
    looking.round = this.#remember(active.plan.id, looking).finally(() => this.#again(active, looking, 0));
  }

  /** What was seen before the service was started anew. */
  async #remember(id: string, { seen }: Looking): Promise<void> {
    try {
      const row = await this.context.db.findOne(MarkEntity, { name: markOf(id) });
      const kept = row ? keptShape.safeParse(JSON.parse(row.value)) : null;
      if (kept?.success)
        for (const [device, { samples, metAt }] of Object.entries(kept.data)) seen.set(device, { samples, metAt, lastChange: null });
    } catch (error) {
      this.context.log.warn({ error, rollout: id }, 'what was seen in its soak before cannot be read');
    }
  }

  #again(active: ActiveRollout, looking: Looking, waitMs: number): void {
    if (looking.abort.signal.aborted) return;
    looking.timer = setTimeout(() => {
      looking.round = this.#round(active, looking)
        .catch((error: unknown) => this.context.log.warn({ error, rollout: active.plan.id }, 'a look in a soak failed'))
        .finally(() => this.#again(active, looking, everyMs(active.state)));
    }, waitMs);
    looking.timer.unref();
  }

  async #round(active: ActiveRollout, looking: Looking): Promise<void> {
    if (!isWatched(active.state)) return;
    const { upgraded, untouched } = await this.#members(active);
    const queue = [...upgraded, ...untouched];
    const met = new Set(upgraded.map((row) => row.id));
    const next = async (): Promise<void> => {
      for (let row = queue.shift(); row && !looking.abort.signal.aborted; row = queue.shift()) {
        const seen = looking.seen.get(row.id) ?? { samples: [], lastChange: null, metAt: null };
        looking.seen.set(row.id, seen);
        if (met.has(row.id) && seen.metAt === null) Object.assign(seen, { metAt: steadyNow(), lastChange: null });
        const taken = await takeSample(this.context, row, seen.lastChange, looking.abort.signal);
        if (!taken) continue;
        seen.samples = [...seen.samples, taken.sample].slice(-mostKept);
        seen.lastChange = taken.lastChange;
      }
    };
    await Promise.all(Array.from({ length: Math.min(atOnce, queue.length) }, next));
    if (steadyNow() - looking.keptAt >= keepEvery && !looking.abort.signal.aborted) await this.#keep(active.plan.id, looking);
  }

  /** So that a restart in the middle of a long soak need not begin it anew. */
  async #keep(id: string, looking: Looking): Promise<void> {
    const { seen } = looking;
    looking.keptAt = steadyNow();
    const value = JSON.stringify(Object.fromEntries([...seen].map(([device, { samples, metAt }]) => [device, { samples, metAt }])));
    await this.context.db.write(async (em) => em.upsert(MarkEntity, { name: markOf(id), value }));
  }

  /** Whom to look at: of the wave those that have reached their target, and of their models some that nobody touches now. */
  async #members({ plan, state }: ActiveRollout): Promise<{ readonly upgraded: DeviceRow[]; readonly untouched: DeviceRow[] }> {
    const rows = new Map((await this.devices.all()).map(({ row }) => [row.id, row]));
    const [mine, others] = [new Map<string, DeviceRow[]>(), new Map<string, DeviceRow[]>()];
    const put = (into: Map<string, DeviceRow[]>, row: DeviceRow | undefined, limit: number): void => {
      if (!row || row.snmpCredential === null || row.address === '') return;
      const list = into.get(modelOf(row));
      if (!list) into.set(modelOf(row), [row]);
      else if (list.length < limit) list.push(row);
    };
    const touched = new Set<string>();
    const coming = new Set<string>();
    plan.runs.forEach((run, index) => {
      const { wave, met, attempt } = state.runs[index]!;
      if (attempt > 0) touched.add(run.device);
      if (wave === state.wave) coming.add(modelOf(rows.get(run.device)));
      if (wave === state.wave && met) put(mine, rows.get(run.device), most.upgraded);
    });
    for (const row of rows.values())
      if (coming.has(modelOf(row)) && !touched.has(row.id) && row.address !== '') put(others, row, most.untouched);
    return { upgraded: [...mine.values()].flat(), untouched: [...others.values()].flat() };
  }

  /** Those of the wave that nobody can ask how they fare: of them nothing is known, and that is said. */
  async #unseen({ plan, state }: ActiveRollout): Promise<SoakFinding[]> {
    const rows = new Map((await this.devices.all()).map(({ row }) => [row.id, row]));
    const counts = new Map<string, number>();
    plan.runs.forEach((run, index) => {
      const { wave, met } = state.runs[index]!;
      const row = rows.get(run.device);
      if (wave === state.wave && met && (row === undefined || row.snmpCredential === null || row.address === ''))
        counts.set(modelOf(row), (counts.get(modelOf(row)) ?? 0) + 1);
    });
    return [...counts].map(([model, n]) => ({
      model,
      measure: null,
      verdict: 'unknown',
      text: `no soak samples of ${n} ${model}: ${n === 1 ? 'it cannot' : 'they cannot'} be read by SNMP`,
      series: [],
    }));
  }

  async #groups(active: ActiveRollout, { seen }: Looking, inHand: ReadonlyMap<string, string>): Promise<Twins[]> {
    const { upgraded, untouched } = await this.#members(active);
    const models = [...new Set(upgraded.map(modelOf))];
    const watched = (row: DeviceRow) => {
      const { samples = [], metAt = null } = seen.get(row.id) ?? {};
      return {
        name: row.name,
        before: metAt === null ? [] : samples.filter((s) => s.at < metAt),
        samples: metAt === null ? samples : samples.filter((s) => s.at >= metAt),
      };
    };
    const of = (rows: readonly DeviceRow[], model: string) => rows.filter((row) => modelOf(row) === model).map(watched);
    return models.map((model) => ({
      model,
      upgraded: of(upgraded, model),
      untouched: of(
        // Who is in another rollout meanwhile is no twin that nobody touched.
        untouched.filter((row) => !inHand.has(row.id)),
        model,
      ),
    }));
  }
}

/** As the journal has it. */
const written = ({ series, ...finding }: SoakFinding) => ({
  ...finding,
  series: series.map(({ points, ...of }) => ({ ...of, points: points.map(([at, value]): [number, number] => [at, value]) })),
});

const modelOf = (row: DeviceRow | undefined): string => row?.model ?? row?.family ?? 'device of no known model';

/** Whether the devices of the wave that is under way are to be looked at, and were not judged yet. */
function isWatched(state: RolloutState): boolean {
  const wave = state.waves[state.wave];
  return wave !== undefined && state.plan.waves[state.wave]!.gate.watch === true && !wave.judged && wave.phase !== 'passed';
}

/** How far apart looks are. */
const everyMs = (state: RolloutState): number => Math.min(longest, Math.max(shortest, soakOf(state) / looksInSoak));

const soakOf = ({ plan, wave }: RolloutState): number => plan.waves[wave]?.gate.soakMs ?? 0;
