import type { Plan, RolloutEvent, RolloutState } from '@barrow/core';
import type { Context } from '../context.js';
import { DeviceEntity, MarkEntity } from '../data/entities.js';
import { digestOf } from '../data/seal.js';
import type { FamilyFiles } from './family-files.js';

const mark = 'proven';
/** Of which file it is, and of which models a device has ended verified by it. */
type Kept = Readonly<Record<string, { readonly file: string; readonly models: readonly string[] }>>;

/** Which families that were added here have brought a device of a model to its target, verified. A file that was changed has not. */
export class Proven {
  #kept: Kept = {};

  constructor(
    private readonly context: Context,
    private readonly files: FamilyFiles,
  ) {}

  async load(): Promise<void> {
    const row = await this.context.db.findOne(MarkEntity, { name: mark });
    if (row) this.#kept = JSON.parse(row.value) as Kept;
  }

  /** What ships with the service is not asked. */
  is(family: string, model: string | null): boolean {
    if (!this.files.isAdded(family)) return true;
    const known = this.#kept[family];
    return known?.file === digestOf(this.files.text(family)) && known.models.includes(model ?? '');
  }

  /** Those of a family's models that nobody has seen upgraded here. */
  lacking(family: string): string[] {
    const models = this.context.families.get(family)?.models ?? [];
    return [...new Set(models.map((m) => m.model))].filter((model) => !this.is(family, model));
  }

  /** Takes note of a run that ended verified, after its entry was applied. */
  heed({ plan, state }: { readonly plan: Plan; readonly state: RolloutState }, event: RolloutEvent): void {
    if (!('run' in event) || event.run === undefined) return;
    const index = state.indexOf.get(event.run);
    const planned = index === undefined ? undefined : plan.runs[index]!;
    if (!planned?.unproven || state.runs[index!]!.outcome !== 'verified' || state.runs[index!]!.endedAt !== event.at) return;
    void this.#note(planned.family, planned.device, plan.families?.[planned.family]).catch((error: unknown) =>
      this.context.log.warn({ error, family: planned.family }, 'that a family is proven was not kept; its next rollout tells it again'),
    );
  }

  async #note(family: string, device: string, text: string | undefined): Promise<void> {
    const row = await this.context.db.findOne(DeviceEntity, { id: device });
    const file = digestOf(text ?? this.files.text(family));
    const before = this.#kept[family];
    const models = new Set(before?.file === file ? before.models : []).add(row?.model ?? '');
    this.#kept = { ...this.#kept, [family]: { file, models: [...models] } };
    await this.context.db.writeSurely(async (em) => em.upsert(MarkEntity, { name: mark, value: JSON.stringify(this.#kept) }));
    this.context.live.changed('families');
  }
}
