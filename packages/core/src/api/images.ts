import { z } from 'zod';
import { moment, sha256Text as sha256 } from './common.js';
import { channels, components, imageNoteSchema, noteFile } from '../images/note.js';

export const imageSchema = z.object({
  /** The digest of its file; of a release of several files, the digest of their list. */
  sha256,
  file: z.string(),
  /** In the order in which a device takes them. */
  files: z.array(noteFile),
  family: z.string(),
  maker: z.string(),
  models: z.array(z.string()),
  hardwareRevisions: z.array(z.string()),
  variant: z.string(),
  version: z.string(),
  component: z.enum(components),
  channel: z.enum(channels),
  withdrawn: z.object({ why: z.string(), since: z.string().optional() }).nullable(),
  bytes: z.number().int(),
  addedAt: moment,
  addedBy: z.string(),
  /** By what of what was published it was compared when it came: a digest that nobody can forge, one that shows damage only; null: by nothing. */
  compared: z.enum(['strong', 'weak']).nullable(),
  /** How many known devices it fits. */
  fits: z.number().int(),
  /** How many of them run its version. */
  runs: z.number().int(),
  /** How many devices it takes towards their target. */
  onPaths: z.number().int(),
});
export type Image = z.infer<typeof imageSchema>;

/** One image with its note, who it concerns, what it mends and what it breaks. */
export const imageDetailSchema = imageSchema.extend({
  note: imageNoteSchema,
  /** Who said that they have read its notes, as they are now. */
  read: z.array(z.object({ by: z.string(), at: moment })),
  fixes: z.array(z.object({ text: z.string(), advisory: z.string().nullable(), exposed: z.number().int() })),
  /** What is lost by it, and for how many of the devices that would take it. */
  breaks: z.array(z.object({ text: z.string(), devices: z.number().int(), names: z.array(z.string()) })),
});
export type ImageDetail = z.infer<typeof imageDetailSchema>;

export const uploadInput = z.strictObject({
  file: z.string().min(1).max(200),
  /** How long the whole file is. */
  bytes: z.number().int().nonnegative(),
  /** The same for the same file of the same sender, so that a broken upload goes on where it ended. */
  key: z.string().min(1).max(128),
});
export const uploadSchema = uploadInput.extend({
  id: z.string(),
  received: z.number().int(),
  /** Of what was received, to be compared before it goes on; null when nothing was. */
  receivedSha256: z.string().nullable(),
});
export type UploadInput = z.input<typeof uploadInput>;
export type Upload = z.infer<typeof uploadSchema>;

export const takeInput = z.strictObject({
  uploads: z.array(z.string()).min(1).max(500),
  /** All files make one release, all or nothing; otherwise each image is a release of its own. */
  oneRelease: z.boolean().default(false),
  family: z.string().nullable().default(null),
  model: z.string().nullable().default(null),
  hardwareRevision: z.string().nullable().default(null),
  variant: z.string().nullable().default(null),
  version: z.string().nullable().default(null),
  channel: z.enum(channels).nullable().default(null),
  /** What the source published: SHA-256, SHA-512, SHA-1 or MD5 of the one file. */
  digest: z.string().nullable().default(null),
  /** The text of a checksum file. */
  checksums: z.string().max(1_000_000).nullable().default(null),
  /** An archive is what the device takes, and is not unpacked. */
  asIs: z.boolean().default(false),
});
export type TakeInput = z.input<typeof takeInput>;
export const takenSchema = z.object({
  images: z.array(imageSchema.extend({ isNew: z.boolean() })),
  /** What a person should know of it: what was left out, what was only compared. */
  remarks: z.array(z.string()),
});
export type Taken = z.infer<typeof takenSchema>;

export const carriedSchema = z.object({
  images: z.array(z.object({ file: z.string(), version: z.string(), sha256, what: z.enum(['added', 'was here', 'would be added']) })),
  families: z.array(z.object({ family: z.string(), what: z.enum(['added', 'the same', 'kept as it is here', 'would be added']) })),
  targets: z.array(
    z.object({
      family: z.string(),
      version: z.string(),
      scope: z.string(),
      what: z.enum(['added', 'was here', 'would be added', 'left out']),
    }),
  ),
});
export type Carried = z.infer<typeof carriedSchema>;
