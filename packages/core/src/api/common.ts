import { z } from 'zod';

/** Moments travel as RFC 3339 text in UTC. */
export const moment = z.string().meta({ description: 'RFC 3339 date and time in UTC' });
export const sha256Text = z.string().regex(/^[0-9a-f]{64}$/);

/** A cause, with what happened and what to look at next. */
export const causeShape = z.object({ code: z.string(), what: z.string(), next: z.string() });

/** Words that commands take in place of a name. */
const reservedNames: readonly string[] = ['latest', 'none', 'all', '.', '..'];

/**
 * A name that a person gives: one line without control characters, without characters that change the direction of writing
 * (Unicode TR9), without spaces at its ends, and none of the words that commands take in place of a name.
 */
export const nameText = (longest: number) =>
  z
    .string()
    .min(1)
    .max(longest)
    // eslint-disable-next-line no-control-regex
    .refine((text) => !/[\u0000-\u001f\u007f-\u009f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff]/.test(text), {
      error: 'a name without line ends, control characters or characters that change the direction of writing',
    })
    .refine((text) => text.trim() === text, { error: 'a name without spaces at its beginning or end' })
    .refine((text) => !reservedNames.includes(text.toLowerCase()), {
      error: 'another name: latest, none, all, . and .. have a meaning in commands',
    });

/** An IPv4 or IPv6 address (RFC 4291 §2.2) or a host name (RFC 1123 §2.1); nothing else may be told to a device as one. */
export const addressOrHost = z
  .string()
  .max(253)
  .refine(
    (text) =>
      z.ipv4().safeParse(text).success ||
      z.ipv6().safeParse(text).success ||
      /^(?=.*[A-Za-z])([A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*$/.test(text),
    'an address or a host name, e.g. 192.0.2.10',
  );
