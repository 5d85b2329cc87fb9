import { z } from 'zod';
import { describeRange, versionRangeSchema } from '../versions/range.js';

/** What kind of release an image is; only releases and transitional images are ever chosen by Barrow itself. */
export const channels = ['release', 'candidate', 'beta', 'transitional'] as const;
export type Channel = (typeof channels)[number];

/** What an image replaces in a device. */
export const components = ['system', 'boot-loader'] as const;
export type Component = (typeof components)[number];

/** What a device may lose by taking an image. */
export const resettable = ['settings', 'logins', 'addresses'] as const;
export type Resettable = (typeof resettable)[number];

/** What a device may no longer answer to after taking an image. */
export const removedServices = ['snmp-v2c', 'snmp', 'ssh', 'http', 'https', 'sip', 'onvif'] as const;
export type RemovedService = (typeof removedServices)[number];

const words = z.string().min(1).max(300);
const version = z.string().min(1).max(80);
const familyName = z.string().regex(/^[a-z][a-z0-9-]*$/, 'a family is named in small letters, digits and hyphens');

/** A name that a device can ask for, in every protocol and on every file system. */
export const fileName = z
  .string()
  .regex(/^[A-Za-z0-9][A-Za-z0-9._+-]{0,127}$/, 'letters, digits, dots, hyphens, underscores and plus signs, at most 128');

const fromRange = versionRangeSchema.and(
  z.object({ family: familyName.optional().describe('Another family that may cross over; the image’s own family when absent.') }),
);
export type FromRange = z.infer<typeof fromRange>;

/** From where an image starts, in words: `5.9.0 or newer; or wendlock-edge R7.90 or newer`. */
export function describeFrom(from: readonly FromRange[]): string {
  if (from.length === 0) return 'every version of its family';
  return from.map(({ family, ...range }) => `${family ? `${family} ` : ''}${describeRange(range)}`).join('; or ');
}

export const noteFile = z.strictObject({
  file: fileName,
  sha256: z.string().regex(/^[0-9a-f]{64}$/),
  bytes: z.number().int().positive(),
});

/** What is known of an image beyond its bytes: an open JSON file that travels beside it. */
export const imageNoteSchema = z.strictObject({
  imageNote: z.literal(1).describe('The edition of this format.'),
  family: familyName.describe('Whose family file reads its versions.'),
  version: version.describe('As the family spells versions.'),
  component: z.enum(components).default('system').describe('What the image replaces in the device.'),
  channel: z.enum(channels).default('release').describe('Candidates and betas are never chosen unless a target names them knowingly.'),
  withdrawn: z
    .strictObject({ why: words, since: z.iso.date().optional() })
    .nullable()
    .default(null)
    .describe('A withdrawn image is never staged and never a step of a path.'),
  models: z.array(z.string().min(1).max(80)).min(1).max(200).describe('The models that may run it.'),
  hardwareRevisions: z.array(z.string().min(1).max(40)).min(1).max(50).describe('The hardware revisions that may run it.'),
  variant: z.string().max(40).default('').describe('The variant that it is for; empty for the plain one.'),
  files: z
    .array(noteFile)
    .max(50)
    .default([])
    .describe('The files that make this release, in the order in which a device takes them. Empty: the one file beside the note.'),
  spaceBytes: z.number().int().positive().nullable().default(null).describe('Room that the device needs for it, in octets.'),
  from: z
    .array(fromRange)
    .max(20)
    .default([])
    .describe('The installed versions that accept it: one range must hold. Empty: every version of its family.'),
  reboots: z.number().int().min(1).max(9).default(1).describe('How often the device restarts for it.'),
  goingDown: z.enum(['refused', 'allowed']).default('refused').describe('Whether a device that runs something newer may go down to it.'),
  resets: z
    .array(z.strictObject({ what: z.enum(resettable), from: versionRangeSchema.optional() }))
    .max(10)
    .default([])
    .describe('What is lost by installing it, always or when coming from certain versions.'),
  factoryLogin: z
    .strictObject({ user: z.string().min(1).max(100), password: z.string().min(1).max(200) })
    .nullable()
    .default(null)
    .describe('The login after a reset by this image, where it is another one than the family names.'),
  drops: z
    .array(
      z.strictObject({
        what: words,
        family: familyName.optional(),
        models: z.array(z.string().min(1).max(80)).max(100).optional(),
        services: z
          .array(z.enum(removedServices))
          .max(removedServices.length)
          .optional()
          .describe('By what the device can no longer be asked. Barrow expects exactly these to be gone.'),
      }),
    )
    .max(30)
    .default([])
    .describe('What is no longer there afterwards: an old protocol, a way of management, models that it no longer serves.'),
  bringsBootLoader: version.nullable().default(null).describe('The boot loader that it installs by the way.'),
  needs: z
    .strictObject({
      bootLoader: version.nullable().default(null).describe('The oldest boot loader that can start it.'),
      partners: z
        .array(
          z.strictObject({
            family: familyName,
            atLeast: version,
            upTo: version.nullable().default(null).describe('The newest version that goes with it; null: every one.'),
            whenAlone: z.enum(['refused', 'allowed']).default('refused').describe('Whether a device without such a partner may take it.'),
          }),
        )
        .max(10)
        .default([])
        .describe('Versions that the device’s controller, recorder, base station or chassis must have first, and may have at most.'),
      licence: words
        .nullable()
        .default(null)
        .describe('What it needs of a licence: another one, one that is bound to its hardware, and so on.'),
      programs: z
        .array(z.strictObject({ name: z.string().min(1).max(80), atLeast: version }))
        .max(10)
        .default([])
        .describe('Management programs that must be new enough; a person has to look, Barrow cannot.'),
    })
    .prefault({}),
  fixes: z.array(words).max(200).default([]).describe('What it mends: identifiers of advisories, or words.'),
  notes: z.string().max(100_000).default('').describe('Release notes, in Markdown.'),
});
export type ImageNote = z.infer<typeof imageNoteSchema>;
/** A note as it is written: what has a default may be left away. */
export type ImageNoteInput = z.input<typeof imageNoteSchema>;

/** The note's JSON Schema (draft 2020-12), as it is written: what has a default may be left away. */
export const imageNoteJsonSchema = (): object => ({ title: 'Image note', ...z.toJSONSchema(imageNoteSchema, { io: 'input' }) });

/** The name of the note that belongs to a file. */
export const noteNameOf = (file: string): string => `${file}.note.json`;
export const isNoteName = (file: string): boolean => file.endsWith('.note.json');

/** A note that cannot be believed, with the place of each fault. */
export class NoteUnreadable extends Error {
  readonly code = 'note-unreadable';
  constructor(readonly faults: readonly string[]) {
    super(faults.join('; '));
  }
}

/** Reads a note. @throws NoteUnreadable */
export function readNote(text: string): ImageNote {
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch (error) {
    throw new NoteUnreadable([`it is not JSON: ${(error as Error).message}`]);
  }
  const parsed = imageNoteSchema.safeParse(json);
  if (parsed.success) return parsed.data;
  throw new NoteUnreadable(parsed.error.issues.slice(0, 5).map((i) => `${i.path.join('.') || 'the note'}: ${i.message}`));
}
