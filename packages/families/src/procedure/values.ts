import { CauseError, pattern, safeText } from '@barrow/core';
import type { Condition } from '../schema/shape.js';

/** What a procedure knows: names to texts, and tables of rows. */
export interface Values {
  readonly single: Map<string, string>;
  readonly tables: Map<string, Record<string, string>[]>;
}

/** `${name}` or `${name|what else}`; `$${` stands for `${` itself. */
const slot = /\$\$\{|\$\{([A-Za-z0-9.]+)(?:\|([^}]*))?\}/g;

/** Puts values in the place of `${name}`. @throws CauseError `unexpected-answer` when a value was never found. */
export function fill(template: string, lookup: (name: string) => string | undefined): string {
  return template.replace(slot, (whole: string, name: string | undefined, otherwise: string | undefined) => {
    if (name === undefined) return whole.slice(1);
    const value = lookup(name) ?? otherwise;
    if (value === undefined) throw new CauseError('unexpected-answer', `the device's answers did not tell "${name}"`);
    return value;
  });
}

/** What may stand in a value of these names, which other systems and persons have a say in. */
const types: Readonly<Record<string, RegExp>> = {
  storeAddress: /^[A-Za-z0-9.:-]{1,253}$/,
  storePort: /^\d{1,5}$/,
  imageBytes: /^\d+$/,
  fileBytes: /^\d+$/,
  imageSha256: /^[0-9a-f]+$/,
  fileSha256: /^[0-9a-f]+$/,
  seconds: /^\d+$/,
};

/** Line ends and other control characters (ISO 6429 C0, C1 and DEL, U+2028, U+2029) would be words of their own to a device. */
// eslint-disable-next-line no-control-regex -- control characters are what it looks for
const control = /[\u0000-\u001f\u007f-\u009f\u2028\u2029]/;

/**
 * The same for what is sent to a device: a value is what its type allows, and never ends a line.
 *
 * @param lines whether settings may stand there with all of their lines
 * @throws CauseError `value-unsafe`
 */
export function fillSent(template: string, lookup: (name: string) => string | undefined, lines = false): string {
  return fill(template, (name) => {
    const value = lookup(name);
    if (value === undefined) return undefined;
    if (control.test(name === 'settings' && lines ? value.replace(/\r?\n|\t/g, '') : value))
      throw new CauseError('value-unsafe', `"${name}" holds a line end or another control character: ${safeText(value, 200)}`);
    if (types[name]?.test(value) === false) throw new CauseError('value-unsafe', `"${name}" cannot be ${safeText(value, 200)}`);
    return value;
  });
}

/** Whether a condition holds; numbers compare as numbers in `atLeast`. */
export function holds(condition: Condition, lookup: (name: string) => string | undefined): boolean {
  if ('any' in condition) return condition.any.some((c) => holds(c, lookup));
  if ('all' in condition) return condition.all.every((c) => holds(c, lookup));
  if ('not' in condition) return !holds(condition.not, lookup);
  const value = fill(condition.value, lookup);
  if (condition.is !== undefined && value !== fill(condition.is, lookup)) return false;
  if (condition.isNot !== undefined && value === fill(condition.isNot, lookup)) return false;
  if (condition.atLeast !== undefined && !(Number(value) >= Number(fill(condition.atLeast, lookup)))) return false;
  if (condition.matches !== undefined && !pattern(condition.matches).matcher(value).find()) return false;
  return true;
}
