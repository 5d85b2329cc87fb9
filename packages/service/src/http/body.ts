import { createMiddleware } from 'hono/factory';
import { bodyLimit } from 'hono/body-limit';
import { jsonFault } from '@barrow/core';
import { Refusal } from '../errors.js';
import type { Env } from './auth.js';

/** The most octets of a JSON body, unless its operation takes more. */
export const usualBody = 1 << 20;
const malformed = (why: string): Refusal =>
  new Refusal(400, 'request-malformed', 'The request was not understood', why, 'See /api/docs for what is expected.');

/** Reads a JSON body of a limited size, and looks whether it may be read at all. */
export function limitedBody(most: number) {
  const limit = bodyLimit({
    maxSize: most,
    onError: () => {
      throw new Refusal(
        413,
        'body-too-large',
        'The request is too large',
        `${most >= 1 << 20 ? `${most >> 20} MiB` : `${most} octets`} is the most that is taken here.`,
        'Files are added with `barrow image add`, in pieces.',
      );
    },
  });
  const look = createMiddleware<Env>(async (c, next) => {
    const fault = jsonFault(await c.req.text());
    if (fault !== null) throw malformed(`${fault[0]!.toUpperCase()}${fault.slice(1)}.`);
    await next();
  });
  return [limit, look] as const;
}
