import { z } from 'zod';

/** Moments travel as RFC 3339 text in UTC. */
export const moment = z.string().meta({ description: 'RFC 3339 date and time in UTC' });
export const sha256Text = z.string().regex(/^[0-9a-f]{64}$/);

/** A cause, with what happened and what to look at next. */
export const causeShape = z.object({ code: z.string(), what: z.string(), next: z.string() });
