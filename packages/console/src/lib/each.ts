import { failureOf } from './session.svelte.js';

/** What came of something that was done for each of several. */
export interface DoneForEach {
  readonly done: number;
  readonly failed: readonly { readonly name: string; readonly why: string }[];
}

/** Does the same for each, a few at once; one that fails keeps no other from it. `tell` hears how many are through. */
export async function forEach<T extends { readonly name: string }>(
  list: readonly T[],
  work: (one: T) => Promise<unknown>,
  tell: (through: number) => void = () => undefined,
): Promise<DoneForEach> {
  const queue = [...list];
  const failed: { name: string; why: string }[] = [];
  let done = 0;
  const next = async (): Promise<void> => {
    for (let one = queue.shift(); one; one = queue.shift()) {
      try {
        await work(one);
        done++;
      } catch (error) {
        const { what, why } = failureOf(error);
        failed.push({ name: one.name, why: `${what}: ${why}` });
      }
      tell(done + failed.length);
    }
  };
  await Promise.all(Array.from({ length: 4 }, next));
  return { done, failed };
}
