import type { Context } from '../context.js';
import { RefusalEntity, type CredentialRow, type Row } from '../data/entities.js';
import { digestOf } from '../data/seal.js';

/** A credential that was refused is not tried at that address again for so long, or an account might be locked. */
const refusalHoldsMs = 12 * 3_600_000;

/** The refusals that still hold, everywhere or at one address. */
export const refusals = (context: Context, address?: string): Promise<Row<typeof RefusalEntity>[]> =>
  context.db.find(RefusalEntity, { at: { $gt: Date.now() - refusalHoldsMs }, ...(address === undefined ? {} : { address }) });

/** Keeps that a credential was refused at an address. Communities are not accounts: they lock nothing, and are not kept. */
export async function noteRefusal(context: Context, credential: CredentialRow, address: string): Promise<void> {
  if (credential.kind === 'snmp-v2c') return;
  const row = { id: idOf(credential, address), credential: credential.id, address, at: Date.now() };
  await context.db.writeSurely(async (em) => em.upsert(RefusalEntity, row));
}

/** It was let in there after all. */
export async function forgetRefusal(context: Context, credential: CredentialRow, address: string): Promise<void> {
  await context.db.writeSurely(async (em) => em.nativeDelete(RefusalEntity, { id: idOf(credential, address) }));
}

const idOf = (credential: CredentialRow, address: string): string => digestOf(`${credential.id}|${address}`).slice(0, 20);
