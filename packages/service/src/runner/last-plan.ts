import type { Context } from '../context.js';
import { MarkEntity } from '../data/entities.js';

const markOf = (token: string): string => `last-plan:${token}`;

/** What came of the last plan that each token asked for, so that "latest" never means an older one. */
export class LastPlans {
  constructor(private readonly context: Context) {}

  /** Until its next plan is made, and when that is refused, a token has no last plan. */
  forget(token: string): Promise<void> {
    return this.#keep(token, '');
  }

  /** Makes a plan for a token, and keeps it as its last one. */
  async keep<T extends { readonly id: string }>(token: string, make: () => Promise<T>): Promise<T> {
    const made = await make();
    await this.#keep(token, made.id);
    return made;
  }

  /** The id of the plan, null when the last one was refused; undefined when the token never asked for one. */
  async of(token: string): Promise<string | null | undefined> {
    const mark = await this.context.db.findOne(MarkEntity, { name: markOf(token) });
    return mark === null ? undefined : mark.value === '' ? null : mark.value;
  }

  async #keep(token: string, value: string): Promise<void> {
    await this.context.db.write(async (em) => em.upsert(MarkEntity, { name: markOf(token), value }));
  }
}
