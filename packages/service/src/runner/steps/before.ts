import type { Member, RunningTime } from '@barrow/core';
import type { ProcedureResult } from '@barrow/families';
import { z } from 'zod';
import type { StepContext } from './step.js';

/** What later steps compare with. */
export interface PreflightFacts {
  readonly firmware: string;
  /** null: it does not tell. */
  readonly nextBoot: string | null;
  readonly settings: string;
  /** null: it does not tell, or nobody asked. */
  readonly bootLoader: string | null;
  readonly running: RunningTime;
  /** Of a stack, or a chassis; none where it tells of none. */
  readonly members: readonly Member[];
}

/** The members of which a procedure `record` tells. */
export const membersIn = (tables: ProcedureResult['tables']): Member[] =>
  (tables['members'] ?? []).flatMap(({ name = '', serial = '', firmware = '', role = '' }) =>
    serial === '' ? [] : [{ name, serial, firmware: firmware === '' ? null : firmware, role: role === '' ? null : role }],
  );

/** The members that there were before the leg, or the one that is taken back, changed anything. */
export function membersBefore(step: Pick<StepContext, 'trail'>): readonly Member[] {
  const read = preflightShape.safeParse(step.trail.ofLeg('preflight')?.facts);
  return read.success ? read.data.members : [];
}

/** What was found before anything was changed, or taken back; null when nobody looked. Read again as it was journalled. */
export function preflightFacts(step: { readonly trail: Pick<StepContext['trail'], 'get'> }): PreflightFacts | null {
  const read = preflightShape.safeParse((step.trail.get('preflight') ?? step.trail.get('take-stock'))?.facts);
  return read.success ? read.data : null;
}

const preflightShape = z.object({
  firmware: z.string(),
  nextBoot: z.string().nullable(),
  settings: z.string(),
  bootLoader: z.string().nullable().default(null),
  running: z.object({
    readAt: z.number(),
    agentUptime: z.number().nullable(),
    bootCount: z.number().nullable(),
    engineBoots: z.number().nullable(),
  }),
  // Nobody asked for them before.
  members: z
    .array(z.object({ name: z.string(), serial: z.string(), firmware: z.string().nullable(), role: z.string().nullable().default(null) }))
    .default([]),
});
