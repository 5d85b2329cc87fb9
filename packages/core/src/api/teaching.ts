import { z } from 'zod';
import { kinds } from '../units.js';

/** What somebody says of gear for which they want a family file to begin with; what is not said is taken from its answers. */
export const draftQuery = z.object({
  family: z
    .string()
    .regex(/^[a-z][a-z0-9-]*$/, 'a family is named in small letters, digits and hyphens')
    .optional(),
  title: z.string().trim().min(1).max(120).optional(),
  maker: z.string().trim().min(1).max(120).optional(),
  model: z.string().trim().min(1).max(120).optional(),
  kind: z.enum(kinds).optional(),
  /** Versions, from the oldest to the newest, with commas between them. */
  versions: z.string().max(400).optional(),
});
export type DraftQuery = z.input<typeof draftQuery>;

/** Over what it is spoken to: its shell (SSH), its pages, or its console, which a console server leads to. */
export const recordedOver = ['shell', 'web', 'console'] as const;
export type RecordedOver = (typeof recordedOver)[number];

/** A session in which a person does by hand what a procedure is to do. */
export const recordingInput = z.strictObject({
  /** By name, address, serial or id. */
  device: z.string().min(1).max(200),
  over: z.enum(recordedOver).default('shell'),
});
export const recordingSchema = z.object({
  id: z.string(),
  device: z.string(),
  over: z.enum(recordedOver),
  /** What was on the screen after the login. */
  greeting: z.string(),
});
export type Recording = z.infer<typeof recordingSchema>;

export const recordingSay = z.strictObject({
  /** What is typed, without its line end, or `GET /path`; null: nothing, only listen on. */
  text: z.string().max(4000).nullable(),
  /** More header fields of a request to a page. */
  headers: z.record(z.string().regex(/^[A-Za-z][A-Za-z0-9-]{0,60}$/), z.string().max(2000)).default({}),
});
export const recordingAnswerSchema = z.object({
  answer: z.string(),
  /** What was typed, as it may be kept: a word that nobody may see stands by the name under which it is given; null: nothing was. */
  said: z.string().nullable(),
  /** Of a page. */
  status: z.number().int().nullable(),
  /** The device ended the session. */
  ends: z.boolean(),
});
export type RecordingAnswer = z.infer<typeof recordingAnswerSchema>;

/** A procedure of a file that the service need not know, to be carried out on a device; only those that ask. */
export const familyTrialInput = z.strictObject({
  text: z.string().min(1).max(1_000_000),
  procedure: z.string().min(1).max(60),
  device: z.string().min(1).max(200),
  /** Whether steps may be carried out that may change the device. */
  mayChange: z.boolean().default(false),
});
export const familyTrialSchema = z.object({
  device: z.string(),
  procedure: z.string(),
  gives: z.record(z.string(), z.string()),
  tables: z.record(z.string(), z.array(z.record(z.string(), z.string()))),
  /** What was said, with nothing secret in it. */
  conversation: z.string(),
});
export type FamilyTrial = z.infer<typeof familyTrialSchema>;
