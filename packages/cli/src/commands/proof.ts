import { createHash, createPublicKey, verify } from 'node:crypto';
import type { Command } from 'commander';
import { canonicalText, lineFaults, linesOf, reportSchema, type LineFault, type Report } from '@barrow/core';
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
  const { publicKey, journal, lines, signature } = proof.data;
  const present = linesOf(given as Report).map((l) => ({ group: l.group, digest: createHash('sha256').update(l.text).digest('hex') }));
  let signed = false;
  try {
    const key = createPublicKey({ key: Buffer.from(publicKey, 'base64'), format: 'der', type: 'spki' });
    signed =
      key.asymmetricKeyType === 'ed25519' &&
      verify(null, Buffer.from(canonicalText({ journal, lines })), key, Buffer.from(signature, 'base64'));
  } catch {
    // What is no key has signed nothing.
  }
  return { signed, faults: lineFaults(lines, present), lines: present.length, publicKey, journal };
}

const wordsOf: Readonly<Record<LineFault['what'], string>> = {
  changed: 'is not as it was signed',
  missing: 'is missing',
  added: 'was added',
  moved: 'stands in another place than it was signed in',
};
const placeOf = ({ group, line }: LineFault): string => {
  const [list, device, part] = group.split('/');
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
