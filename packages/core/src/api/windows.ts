import { z } from 'zod';

const clockTime = z.string().regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'a time of day is written as 22:00');
/** Times at which devices may go down, again and again, or on single days. */
export const windowInput = z
  .strictObject({
    from: clockTime,
    to: clockTime,
    days: z.array(z.number().int().min(1).max(7)).default([]).describe('Days on which it begins, 1 is Monday; every day when empty.'),
    dates: z.array(z.iso.date()).max(60).default([]).describe('Single days on which it begins, instead of days of the week.'),
    zone: z.string().nullable().default(null).describe('Of the IANA time zone database; that of the service when absent.'),
  })
  .refine((w) => w.days.length === 0 || w.dates.length === 0, {
    message: 'a window is of days of the week or of single days, not of both',
    path: ['dates'],
  });
export type WindowInput = z.infer<typeof windowInput>;
