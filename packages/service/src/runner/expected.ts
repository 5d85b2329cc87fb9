import { z } from 'zod';
import { rfc3339, type Context } from '../context.js';
import { MarkEntity } from '../data/entities.js';
import { Refusal } from '../errors.js';
import { hideSecrets } from '../touch/secrets.js';
import type { ActiveRollout } from './active.js';
import type { Journal } from './journal.js';

const mark = 'expected-settings';
/** Lines of one version step, and steps, that are kept at most. */
const most = { lines: 500, steps: 200 };

/** What changes in settings with a version step, as a person has looked at it. */
const stepShape = z.object({
  family: z.string(),
  from: z.string(),
  to: z.string(),
  /** As a comparison writes them, with their `+` or `-`. */
  lines: z.array(z.string()),
  by: z.string(),
  at: z.number(),
});
type ExpectedStep = z.infer<typeof stepShape>;
export interface VersionStep {
  readonly family: string;
  readonly from: string;
  readonly to: string;
}
const isOf =
  ({ family, from, to }: VersionStep) =>
  (step: ExpectedStep): boolean =>
    step.family === family && step.from === from && step.to === to;

/** What a comparison found otherwise, as the facts of a step have it: sealed, since settings are full of secrets. */
export const differKey = 'settingsDiffer';

/** Which differences of settings come with which version, accepted once and not told again. They are kept sealed. */
export class Expected {
  constructor(
    private readonly context: Context,
    private readonly journal: Journal,
  ) {}

  async #all(): Promise<ExpectedStep[]> {
    const row = await this.context.db.findOne(MarkEntity, { name: mark });
    return row === null ? [] : z.array(stepShape).parse(JSON.parse(this.context.sealer.open(row.value)));
  }

  async #keep(steps: readonly ExpectedStep[]): Promise<void> {
    const value = this.context.sealer.seal(JSON.stringify(steps));
    await this.context.db.write(async (em) => em.upsert(MarkEntity, { name: mark, value }));
  }

  /** The lines that are expected of a version step. */
  async of(step: VersionStep): Promise<ReadonlySet<string>> {
    return new Set((await this.#all()).find(isOf(step))?.lines ?? []);
  }

  /** For a fact of a step: what was otherwise, sealed. */
  sealed(lines: readonly string[]): string {
    return this.context.sealer.seal(JSON.stringify(lines.slice(0, most.lines)));
  }

  /** All of them, secrets hidden. */
  async list(): Promise<{ family: string; from: string; to: string; lines: string[]; by: string; at: string }[]> {
    const { families } = this.context;
    return (await this.#all()).map(({ at, lines, ...step }) => {
      const family = families.get(step.family);
      return {
        ...step,
        lines: family ? lines.map((l) => hideSecrets(l, family)) : [`${lines.length} lines of a family that is gone`],
        at: rfc3339(at),
      };
    });
  }

  /** What was otherwise on a device of a rollout is told again from now on. @throws Refusal when nothing is expected of that step */
  async forget(step: VersionStep): Promise<void> {
    const all = await this.#all();
    const left = all.filter((one) => !isOf(step)(one));
    if (left.length === all.length)
      throw new Refusal(
        404,
        'not-expected',
        'Nothing is expected of that',
        `Of ${step.family} from ${step.from} to ${step.to} no difference was accepted.`,
        '`barrow family expected` lists what was.',
      );
    await this.#keep(left);
  }

  /**
   * What was otherwise in the settings of a device after its upgrade, and with `accept` from now on expected of this version step.
   * @throws Refusal when its settings were not compared, or were the same
   */
  async see(
    active: ActiveRollout,
    run: string,
    accept: { readonly by: string } | null,
  ): Promise<VersionStep & { lines: string[]; accepted: boolean }> {
    const planned = active.plan.runs[active.state.indexOf.get(run)!]!;
    const family = active.familyOf(planned.family);
    const { entries } = await this.journal.ofRun(active.plan.id, run);
    const found = entries.map((e) => e.event).findLast((e) => e.kind === 'step-failed' && typeof e.facts?.[differKey] === 'string');
    if (found?.kind !== 'step-failed' || !family)
      throw new Refusal(
        409,
        'nothing-differs',
        'Nothing was otherwise',
        `The settings of ${planned.name} were not found to be otherwise in this rollout.`,
        `\`barrow rollout show ${active.plan.id} --device ${planned.name}\` shows what was compared.`,
      );
    const { from, to } = stepShape.pick({ from: true, to: true }).parse(found.facts!['settingsStep']);
    const lines = z.array(z.string()).parse(JSON.parse(this.context.sealer.open(String(found.facts![differKey]))));
    const step = { family: planned.family, from, to };
    if (accept) {
      const all = await this.#all();
      const before = all.find(isOf(step))?.lines ?? [];
      const now: ExpectedStep = { ...step, lines: [...new Set([...before, ...lines])].slice(0, most.lines), by: accept.by, at: Date.now() };
      await this.#keep([...all.filter((one) => !isOf(step)(one)), now].slice(-most.steps));
    }
    return { ...step, lines: lines.map((l) => hideSecrets(l, family)), accepted: accept !== null };
  }
}
