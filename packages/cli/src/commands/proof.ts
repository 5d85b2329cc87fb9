import { createHash, createPublicKey, verify } from 'node:crypto';
import type { Command } from 'commander';
import { lineFaults, linesOf, reportSchema, reportText, signedText, unprovenText, type LineFault } from '@barrow/core';
import type { Act } from '../context.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { count, print } from '../output.js';
import { readText } from '../read-text.js';

/** So many faults at most are told. */
const mostTold = 50;

/** What a file says of itself, compared with what was signed. */
interface Verified {
  readonly signed: boolean;
  readonly faults: readonly LineFault[];
  readonly lines: number;
  readonly publicKey: string;
  readonly journal: { readonly last: number; readonly head: string | null };
}

const refuse = (why: string, next: string): CommandError =>
  new CommandError(exit.wrongUse, 'report-unproven', 'The report cannot be verified', why, next);

/** @throws CommandError when it is no report, or has nothing that proves it */
function verifyReport(text: string, file: string): Verified {
  let given: unknown;
  try {
    given = JSON.parse(text);
  } catch (error) {
    throw refuse(`${file} is no JSON: ${(error as Error).message}.`, 'Give a report as `barrow report ROLLOUT --format json` writes it.');
  }
  const proof = reportSchema.shape.proof.safeParse((given as { proof?: unknown } | null)?.proof);
  if (!proof.success || proof.data === undefined)
    throw refuse(
      `${file} has no signature.`,
      'Write it anew: reports of an earlier Barrow were not signed, and tables and pages never are.',
    );
  // The schema drops every member that it does not know: what differs afterwards is not in the one closed shape of a report.
  const report = reportSchema.safeParse(given);
  if (!report.success || reportText(report.data) !== reportText(given as object))
    throw refuse(
      `${file} holds members that no report has, or lacks some: it was changed, or made by another version of Barrow.`,
      'Write the report again with `barrow report ROLLOUT --format json`.',
    );
  // A member that stands twice, another order or other spaces do not survive reading and writing.
  const written = text.replaceAll('\r\n', '\n').trimEnd();
  if (written !== reportText(given as object).trimEnd() && written !== JSON.stringify(given))
    throw refuse(
      `${file} is not written as Barrow writes a report: a member stands twice, or its form was changed.`,
      'Write the report again with `barrow report ROLLOUT --format json`, and hand that file on unchanged.',
    );
  const { publicKey, journal, lines, signature } = proof.data;
  const present = linesOf(report.data).map((l) => ({ group: l.group, digest: sha256(l.text) }));
  let signed = false;
  try {
    const key = createPublicKey({ key: Buffer.from(publicKey, 'base64'), format: 'der', type: 'spki' });
    signed =
      key.asymmetricKeyType === 'ed25519' && verify(null, Buffer.from(signedText(proof.data)), key, Buffer.from(signature, 'base64'));
  } catch {
    // What is no key has signed nothing.
  }
  const faults = lineFaults(lines, present);
  const isWhole = proof.data.count === present.length && proof.data.whole === sha256(unprovenText(report.data));
  // Every line may be there while their order between the lists is not.
  if (!isWhole && faults.length === 0) faults.push({ group: '', line: null, what: 'changed' });
  return { signed, faults, lines: present.length, publicKey, journal };
}

const sha256 = (text: string): string => createHash('sha256').update(text).digest('hex');

const wordsOf: Readonly<Record<LineFault['what'], string>> = {
  changed: 'is not as it was signed',
  missing: 'is missing',
  added: 'was added',
  moved: 'stands in another place than it was signed in',
};
const placeOf = ({ group, line }: LineFault): string => {
  const [list, device, part] = group.split('/').map(decodeURIComponent);
  const where =
    list === '' ? 'the head of the report' : device === undefined ? list! : part === undefined ? device : `${part} of ${device}`;
  return line === null ? where : `${where}, line ${line}`;
};

/** `barrow report verify` and `barrow report key`. */
export function registerProof(report: Command, act: Act): void {
  report
    .command('verify <file>')
    .description('whether a report (JSON) is as it was signed, line by line; without the service')
    .option('--key <key>', 'the public key of the service that it is to come from, as `barrow report key` prints it')
    .action(
      act(async ({ say }, file: string, o: { key?: string }) => {
        const seen = verifyReport(await readText(file), file);
        const isOther = o.key !== undefined && o.key.trim() !== seen.publicKey;
        const isSound = seen.signed && seen.faults.length === 0 && !isOther;
        print(say, { file, sound: isSound, ...seen }, () =>
          [
            ...(seen.signed ? [] : ['✕ The signature is not one over these digests: they were changed, or signed by nobody.']),
            ...(isOther ? [`✕ It is signed by another key: ${seen.publicKey}`] : []),
            ...seen.faults.slice(0, mostTold).map((f) => `✕ ${placeOf(f)}: ${wordsOf[f.what]}`),
            ...(seen.faults.length > mostTold ? [`… and ${count(seen.faults.length - mostTold, 'line')} more`] : []),
            ...(isSound
              ? [
                  `✓ ${file}: all ${count(seen.lines, 'line')} are as they were signed.`,
                  `  Signed over the journal up to entry ${seen.journal.last}${seen.journal.head === null ? '' : ` (${seen.journal.head.slice(0, 16)}…)`}.`,
                  o.key === undefined
                    ? `  By the key ${seen.publicKey}\n  Whose that is, only the service can say: compare it with \`barrow report key\`.`
                    : '  By the key that was named.',
                ]
              : []),
          ].join('\n'),
        );
        if (!isSound) throw new Quiet(exit.workFailed);
      }),
    );
  report
    .command('key')
    .description('the public key by which the service signs its reports')
    .action(
      act(async ({ say, client }) => {
        const publicKey = await client().reportKey();
        print(say, { publicKey }, () => publicKey);
      }),
    );
}
