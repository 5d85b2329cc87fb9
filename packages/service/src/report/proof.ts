import { createHash, createPrivateKey, createPublicKey, generateKeyPairSync, sign, type KeyObject } from 'node:crypto';
import { linesOf, reportSchema, signedText, unprovenText, type Report } from '@barrow/core';
import type { Context } from '../context.js';
import { MarkEntity } from '../data/entities.js';

const mark = 'report-key';

/** The key by which this service signs its reports (Ed25519, RFC 8032); made once, and sealed. */
export class ReportKey {
  private constructor(private readonly key: KeyObject) {}

  static async open({ db, sealer }: Context): Promise<ReportKey> {
    const kept = await db.findOne(MarkEntity, { name: mark });
    if (kept) return new ReportKey(createPrivateKey({ key: sealer.open(kept.value), format: 'pem' }));
    const { privateKey } = generateKeyPairSync('ed25519');
    const pem = privateKey.export({ format: 'pem', type: 'pkcs8' }).toString();
    await db.write(async (em) => em.insert(MarkEntity, { name: mark, value: sealer.seal(pem) }));
    return new ReportKey(privateKey);
  }

  /** As SubjectPublicKeyInfo, in base64. */
  get publicText(): string {
    return createPublicKey(this.key).export({ format: 'der', type: 'spki' }).toString('base64');
  }

  /** A report with its proof. @param journal the digest over the journal of its rollout, to its last entry */
  signed(made: Report, journal: { readonly last: number; readonly head: string | null }): Report {
    // Closed by the schema first: what is signed is exactly what is written.
    const report = reportSchema.omit({ proof: true }).parse(made);
    const lines = linesOf(report).map(({ group, text }) => ({ group, digest: sha256(text) }));
    const covered = { journal, count: lines.length, whole: sha256(unprovenText(report)), lines };
    const signature = sign(null, Buffer.from(signedText(covered)), this.key).toString('base64');
    return { ...report, proof: { publicKey: this.publicText, ...covered, signature } };
  }
}

const sha256 = (text: string): string => createHash('sha256').update(text).digest('hex');
