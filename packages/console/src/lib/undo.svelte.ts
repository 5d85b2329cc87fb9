import type { Target, TargetInput } from '@barrow/core';
import { client, failureOf, type Failure } from './session.svelte.js';

interface Done {
  /** What was done, as a sentence. */
  readonly words: string;
  readonly back: () => Promise<unknown>;
}

/** How long the offer stands. */
const offeredMs = 30_000;

/** The last act of this person that can be undone by one press, for a while, until the next one or until the person closes it. */
class Undo {
  last = $state.raw<Done | null>(null);
  failure = $state.raw<Failure | null>(null);
  busy = $state(false);

  #timer: ReturnType<typeof setTimeout> | undefined;

  did(words: string, back: () => Promise<unknown>): void {
    this.aside();
    this.last = { words, back };
    this.#timer = setTimeout(() => this.aside(), offeredMs);
  }

  aside(): void {
    clearTimeout(this.#timer);
    this.last = null;
    this.failure = null;
  }

  async undo(): Promise<void> {
    if (this.last === null || this.busy) return;
    this.busy = true;
    clearTimeout(this.#timer);
    try {
      await this.last.back();
      this.aside();
    } catch (error) {
      this.failure = failureOf(error);
    }
    this.busy = false;
  }
}
export const undo = new Undo();

const inputOf = ({ family, version, fromFamilies, model, hardwareRevision, site, tag, device, acceptUnreleased }: Target): TargetInput => ({
  family,
  version,
  fromFamilies,
  model,
  hardwareRevision,
  site,
  tag,
  device,
  acceptUnreleased,
});
const sameScope = (a: Target, b: Target): boolean =>
  (['family', 'model', 'hardwareRevision', 'site', 'tag', 'device'] as const).every((key) => a[key] === b[key]);

/** What a person changed is not taken back over the head of another who changed it since. */
async function unlessChanged(scope: Target, is: Target | undefined, back: () => Promise<unknown>): Promise<void> {
  const now = (await client().targets()).find((t) => sameScope(t, scope));
  if (now?.setAt !== is?.setAt || now?.version !== is?.version)
    throw new Error(now ? `${now.setBy} has set it to ${now.version} since.` : 'somebody has removed it since.');
  await back();
}

/** Sets a target, so that it can be taken back: to the one that stood in its place, or to none. */
export async function setTargetUndoably(input: TargetInput): Promise<Target> {
  const before = await client().targets();
  const made = await client().setTarget(input);
  const was = before.find((t) => sameScope(t, made));
  if (was === undefined || was.version !== made.version || was.acceptUnreleased !== made.acceptUnreleased)
    undo.did(`The target of ${made.family}, ${made.scope}, is ${made.version} now${was ? `, it was ${was.version}` : ''}.`, () =>
      unlessChanged(made, made, () => (was ? client().setTarget(inputOf(was)) : client().removeTarget(made.id))),
    );
  return made;
}

export async function removeTargetUndoably(target: Target): Promise<void> {
  // What is shown may be older than what is: the one that is meant is the one of this scope and version.
  const now = (await client().targets()).find((t) => sameScope(t, target));
  if (now?.version !== target.version) throw new Error(now ? `${now.setBy} has set it to ${now.version} since.` : 'it is removed already.');
  await client().removeTarget(now.id);
  undo.did(`The target ${target.version} of ${target.family}, ${target.scope}, is removed.`, () =>
    unlessChanged(target, undefined, () => client().setTarget(inputOf(target))),
  );
}
