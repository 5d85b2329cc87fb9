import { searchParams } from 'sv-router';

/** A part of what a page shows that stands in its address, so that Back, Reload and a sent link show the same. */
export function inAddress(name: string, otherwise = ''): { value: string } {
  return {
    get value() {
      return searchParams.toURLSearchParams().get(name) ?? otherwise;
    },
    set value(next) {
      if (next === otherwise) searchParams.delete(name, undefined, { replace: true });
      else searchParams.set(name, next, { replace: true });
    },
  };
}

/** Whether one of a few words stands there; what else stands there is nothing. */
export function oneInAddress<T extends string>(name: string, words: readonly T[]): { value: T | '' } {
  const text = inAddress(name);
  return {
    get value() {
      return words.find((w) => w === text.value) ?? '';
    },
    set value(next) {
      text.value = next;
    },
  };
}
