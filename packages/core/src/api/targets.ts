import { z } from 'zod';
import { moment } from './common.js';
import { closedObject } from '../text/closed.js';
import { standings } from '../standing/standing.js';

const scopeWord = z.string().min(1).max(120).nullable().default(null);
export const targetInput = z.strictObject({
  family: z.string().min(1),
  version: z.string().min(1).max(80),
  /** Families whose devices are to cross over to this one. */
  fromFamilies: z.array(z.string()).max(20).default([]),
  /** Narrows the rule; without any of these it is for the whole family. */
  model: scopeWord,
  hardwareRevision: scopeWord,
  site: scopeWord,
  tag: scopeWord,
  device: scopeWord,
  /** Says that a candidate or beta is meant. */
  acceptUnreleased: z.boolean().default(false),
});
export const targetSchema = targetInput.extend({
  id: z.string(),
  setAt: moment,
  setBy: z.string(),
  /** The rule's set in words. */
  scope: z.string(),
  devices: z.number().int(),
  /** What may be a slip, in words: no image of that version is in the store. */
  remarks: z.array(z.string()),
});
export type TargetInput = z.input<typeof targetInput>;

const yesOrNo = z.enum(['yes', 'no', 'true', 'false']).transform((word) => word === 'yes' || word === 'true');
const setVersion = z.string().min(1).max(80);
const setEntry = closedObject({
  version: setVersion,
  model: z.string().min(1).optional(),
  hardwareRevision: z.string().min(1).optional(),
  site: z.string().min(1).optional(),
  tag: z.string().min(1).optional(),
  device: z.string().min(1).optional(),
  fromFamilies: z.array(z.string()).max(20).optional(),
  acceptUnreleased: yesOrNo.optional(),
});
/** Versions that belong together, as a person writes them into a file: one of each family, or several for parts of it. Every scalar is text. */
export const targetSetFile = closedObject({
  set: z.string().min(1).max(120),
  note: z.string().max(2000).optional(),
  versions: z
    .record(
      z.string().min(1),
      z.preprocess((says) => (typeof says === 'string' ? [{ version: says }] : says), z.array(setEntry).min(1).max(100)),
    )
    .refine((v) => Object.keys(v).length > 0, 'says no version'),
});
/** The file of a set, as text. */
export const targetSetInput = z.strictObject({ text: z.string().min(1).max(200_000) });
/** A set of versions with the rules that it stands for. */
export interface TargetSet {
  readonly name: string;
  readonly note: string | null;
  readonly targets: readonly z.output<typeof targetInput>[];
}

/** What would follow from a target, before it is set. */
export const targetPreviewSchema = z.object({
  version: z.string(),
  scope: z.string(),
  /** For how many it would be the target. */
  devices: z.number().int(),
  /** Of these: there already, one image away, more than one, newer, held by a pin. */
  there: z.number().int(),
  oneImage: z.number().int(),
  moreImages: z.number().int(),
  newer: z.number().int(),
  pinned: z.number().int(),
  /** Those that could not get there, by the reason. */
  notReached: z.array(z.object({ why: z.string(), devices: z.number().int(), names: z.array(z.string()) })),
  /** What may be a slip. */
  remarks: z.array(z.string()),
});
/** The fleet against a set of versions: as if its rules were the only ones. */
export const targetComparisonSchema = z.object({
  set: z.string(),
  note: z.string().nullable(),
  rules: z.array(
    targetPreviewSchema.extend({
      family: z.string(),
      title: z.string(),
      /** For how many of its devices this version is the target today. */
      asTarget: z.number().int(),
      /** What those run that are not there, most first; null: not known. */
      runs: z.array(z.object({ version: z.string().nullable(), devices: z.number().int(), names: z.array(z.string()) })),
    }),
  ),
  /** Families with devices that the set says nothing of. */
  without: z.array(z.object({ family: z.string(), title: z.string(), devices: z.number().int() })),
  devices: z.number().int(),
  there: z.number().int(),
});
export type TargetComparison = z.infer<typeof targetComparisonSchema>;
export type TargetPreview = z.infer<typeof targetPreviewSchema>;
export type Target = z.infer<typeof targetSchema>;

export const pinInput = z.strictObject({
  device: z.string().min(1),
  reason: z.string().min(1).max(500),
  /** The day after which it is asked again. */
  askAgain: z.iso.date(),
});
export const pinSchema = pinInput.extend({
  name: z.string(),
  version: z.string(),
  due: z.boolean(),
  setAt: moment,
  setBy: z.string(),
});
export type PinInput = z.input<typeof pinInput>;
export type PinView = z.infer<typeof pinSchema>;

const standingCounts = z.record(z.enum(standings), z.number().int());
/** The fleet by family and version, and what the image store lacks. */
export const standingSchema = z.object({
  devices: z.number().int(),
  counts: standingCounts,
  families: z.array(
    z.object({
      /** null: devices that no family fits. */
      family: z.string().nullable(),
      title: z.string(),
      devices: z.number().int(),
      counts: standingCounts,
      /** Oldest first; a version that is only a target has no devices. */
      versions: z.array(
        z.object({
          /** null: not known. */
          version: z.string().nullable(),
          /** Written in the family's one way; of another family where devices are to cross over. */
          family: z.string().nullable(),
          devices: z.number().int(),
          counts: standingCounts,
          /** For how many devices of the family it is the target. */
          targetOf: z.number().int(),
          withdrawn: z.boolean(),
        }),
      ),
    }),
  ),
  lacking: z.array(z.object({ wanted: z.string(), gap: z.string(), devices: z.number().int(), names: z.array(z.string()) })),
  pinsDue: z.array(pinSchema),
});
export type StandingSummary = z.infer<typeof standingSchema>;
