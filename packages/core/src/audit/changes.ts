/** One value that a request changed. Null: there was none, or there is none now. */
export interface AuditChange {
  readonly field: string;
  readonly from: string | null;
  readonly to: string | null;
}

/** Longer values are cut: the audit log names a change, it does not keep a copy of it. */
const longestValue = 300;
const mostChanges = 40;
/** Keys whose values are secret in every request. */
const secretKey = /secret|^second$|^raise$|password|passphrase|token|^answer$|^sealed$/i;
/** The placeholder for a secret. */
export const hiddenValue = '‹hidden›';

/** An address without its user, password and query, which may hold tokens. */
export function addressShown(text: string): string {
  const found = /^([a-z][a-z0-9+.-]*:\/\/)([^/?#]*@)?([^?#]*)([?#].*)?$/i.exec(text);
  if (!found) return text;
  const [, scheme, user, rest, query] = found;
  return `${scheme}${user ? `${hiddenValue}@` : ''}${rest}${query ? `?${hiddenValue}` : ''}`;
}

const cut = (text: string): string => (text.length > longestValue ? `${text.slice(0, longestValue)}… (${text.length} characters)` : text);

function shown(key: string, value: unknown): string | null {
  if (value === null || value === undefined || value === '' || (typeof value === 'object' && Object.keys(value).length === 0)) return null;
  if (secretKey.test(key)) return hiddenValue;
  if (typeof value === 'string') return value.includes('\n') ? `${value.split('\n').length} lines` : cut(addressShown(value));
  if (Array.isArray(value) && value.every((v) => typeof v === 'string' || typeof v === 'number'))
    return value.length === 0 ? null : cut(value.join(', '));
  return cut(
    JSON.stringify(value, (inner, v: unknown) =>
      inner !== '' && secretKey.test(inner) && v !== null ? hiddenValue : typeof v === 'string' ? addressShown(v) : v,
    ),
  );
}

const same = (a: unknown, b: unknown): boolean => JSON.stringify(a ?? null) === JSON.stringify(b ?? null);

/**
 * What a request changed, field by field. Secrets and tokens are hidden.
 *
 * @param asked the body of the request
 * @param before the values before it, under the same names; null: nothing is known of them
 */
export function auditChanges(asked: unknown, before: Readonly<Record<string, unknown>> | null = null): AuditChange[] {
  if (typeof asked !== 'object' || asked === null || Array.isArray(asked)) return [];
  return Object.entries(asked as Record<string, unknown>)
    .filter(([key, value]) => value !== undefined && !(before !== null && key in before && same(before[key], value)))
    .flatMap(([field, value]) => {
      const [from, to] = [before === null ? null : shown(field, before[field]), shown(field, value)];
      return from === null && to === null ? [] : [{ field, from, to }];
    })
    .slice(0, mostChanges);
}

/** `firmware 4.2.1 → 4.3.0; model TB-2408`. */
export const auditText = (changes: readonly AuditChange[]): string =>
  changes.map(({ field, from, to }) => `${fieldWords(field)} ${from === null ? to : `${from} → ${to ?? 'none'}`}`).join('; ');

/** `hardwareRevision` as people write it: `hardware revision`. */
const fieldWords = (field: string): string => field.replaceAll(/([a-z])([A-Z])/g, (_, a: string, b: string) => `${a} ${b.toLowerCase()}`);
