import { z } from 'zod';
import { moment } from './common.js';
import { kinds } from '../units.js';
import { productStatuses } from '../advisories/csaf.js';
import { exposures } from '../advisories/exposure.js';

export const mappingInput = z.strictObject({
  vendor: z.string().max(200),
  product: z.string().min(1).max(200),
  /** null: nothing of the kind is here. */
  family: z.string().nullable(),
  models: z.array(z.string()).max(100).default([]),
});
export type MappingInput = z.input<typeof mappingInput>;

export const advisorySchema = z.object({
  id: z.string(),
  title: z.string(),
  publisher: z.string(),
  edition: z.string(),
  status: z.string(),
  releasedAt: z.string(),
  severity: z.string().nullable(),
  /** The highest base score in it. */
  score: z.number().nullable(),
  addedAt: moment,
  addedBy: z.string(),
  /** Products that nobody has mapped yet. */
  unmapped: z.number().int(),
  /** Mandatory tests of the standard that the document fails: nobody is cleared by it. */
  fails: z.array(z.string()),
  devices: z.record(z.enum(exposures), z.number().int()),
});
export type AdvisoryView = z.infer<typeof advisorySchema>;

const exposureShape = z.object({
  device: z.string(),
  name: z.string(),
  site: z.string(),
  family: z.string(),
  firmware: z.string().nullable(),
  exposure: z.enum(exposures),
  score: z.number().nullable(),
  vulnerabilities: z.array(z.string()),
  reason: z.string().nullable(),
  /** The nearest version that is not affected, and how many images away; null when there is no way to one. */
  fixedBy: z.object({ version: z.string(), hops: z.number().int(), reboots: z.number().int(), inTarget: z.boolean() }).nullable(),
  noFix: z.string().nullable(),
});
export const advisoryDetailSchema = advisorySchema.extend({
  summary: z.string().nullable(),
  products: z.array(
    z.object({
      vendor: z.string().nullable(),
      product: z.string(),
      versions: z.array(z.object({ version: z.string().nullable(), statuses: z.array(z.enum(productStatuses)) })),
      mapping: z.object({ family: z.string().nullable(), models: z.array(z.string()), confirmedBy: z.string() }).nullable(),
      proposal: z.object({ family: z.string(), models: z.array(z.string()), why: z.string() }).nullable(),
    }),
  ),
  vulnerabilities: z.array(
    z.object({
      name: z.string(),
      title: z.string().nullable(),
      score: z.number().nullable(),
      remedies: z.array(z.object({ category: z.string(), details: z.string() })),
    }),
  ),
  exposed: z.array(exposureShape),
});
export type AdvisoryDetail = z.infer<typeof advisoryDetailSchema>;

/** The fleet, most exposed first. */
export const rankedSchema = z.object({
  items: z.array(
    z.object({
      device: z.string(),
      name: z.string(),
      site: z.string(),
      kind: z.enum(kinds),
      firmware: z.string().nullable(),
      score: z.number().nullable(),
      advisories: z.array(z.object({ id: z.string(), score: z.number().nullable() })),
      /** Images to pass until none of them applies; null when there is no way. */
      hops: z.number().int().nullable(),
      fixedBy: z.string().nullable(),
      noFix: z.string().nullable(),
    }),
  ),
});
export type RankedFleet = z.infer<typeof rankedSchema>;
