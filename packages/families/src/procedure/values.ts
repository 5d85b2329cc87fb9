import { CauseError, pattern } from '@barrow/core';
import type { Condition } from '../schema/family.js';

/** What a procedure knows: names to texts, and tables of rows. */
export interface Values {
  readonly single: Map<string, string>;
  readonly tables: Map<string, Record<string, string>[]>;
}

/** Puts values in the place of `${name}`. @throws CauseError `unexpected-answer` when a value was never found. */
export function fill(template: string, lookup: (name: string) => string | undefined): string {
  return template.replace(/\$\{([A-Za-z0-9.]+)(?:\|([^}]*))?\}/g, (_, name: string, otherwise: string | undefined) => {
    const value = lookup(name) ?? otherwise;
    if (value === undefined) throw new CauseError('unexpected-answer', `the device's answers did not tell "${name}"`);
    return value;
  });
}

/** Whether a condition holds; numbers compare as numbers in `atLeast`. */
export function holds(condition: Condition, lookup: (name: string) => string | undefined): boolean {
  const value = fill(condition.value, lookup);
  if (condition.is !== undefined && value !== fill(condition.is, lookup)) return false;
  if (condition.isNot !== undefined && value === fill(condition.isNot, lookup)) return false;
  if (condition.atLeast !== undefined && !(Number(value) >= Number(fill(condition.atLeast, lookup)))) return false;
  if (condition.matches !== undefined && !pattern(condition.matches).matcher(value).find()) return false;
  return true;
}
