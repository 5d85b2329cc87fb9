import { createInterface } from 'node:readline';
import { dirname, join } from 'node:path';
import type { BarrowClient } from '@barrow/client';
import { isCauseCode, meantText, recordedOver, type FamilyTrial, type RecordedOver } from '@barrow/core';
import type { Conversation, Exchange, Tried } from '@barrow/families';
import type { Register } from '../context.js';
import { CommandError, exit, faultsIn, Quiet } from '../errors.js';
import { readText } from '../read-text.js';
import { count, makeColours, print, type Say } from '../output.js';

const wrong = (code: string, title: string, why: string, next: string): CommandError =>
  new CommandError(exit.wrongUse, code, title, why, next);

/** What the procedure that is recorded may give. */
interface Gives {
  readonly fits: (name: string) => boolean;
  readonly words: (name: string) => string;
}

/** `KEY=VALUE`, several times. */
function pairs(list: readonly string[], option: string): Record<string, string> {
  return Object.fromEntries(
    list.map((one) => {
      const [, key, value] = /^([a-z][A-Za-z0-9]*)=(.*)$/s.exec(one) ?? [];
      if (key === undefined)
        throw wrong(
          'pair-malformed',
          'The command was not understood',
          `${option} "${one}" is no pair.`,
          `Write it as ${option} firmware=4.2.1.`,
        );
      return [key, value!];
    }),
  );
}
const gather = (one: string, before: string[]): string[] => [...before, one];

interface Session {
  readonly conversation: Pick<Conversation, 'greeting' | 'talk' | 'finds' | 'takes' | 'given' | 'refusals'>;
}

const help = `What you type is sent to the device as it is, and nothing else is. Lines that begin with a colon are for Barrow:
  :is NAME VALUE      what is to be found in the answers, e.g. :is firmware 4.2.1
  :given NAME VALUE   what Barrow gives instead of what you type, e.g. :given imageFile tb24-4.3.0.simg
  :take NAME VALUE    a value of an answer that you send again, e.g. the hidden field of a form: :take token 8c1f
  :no [CAUSE]         that was how it says no, and no part of the procedure, e.g. :no image-refused
  :listen             wait for what still comes
  :end                that was all (or the end of the input)`;

const helpOfPages = `
For a page with a form type \${pageUser} and \${pageWord} where the login belongs, e.g. POST /login user=\${pageUser}&word=\${pageWord}.
Barrow keeps cookies and follows redirects. :header NAME VALUE adds a header field to every request after it.`;

const helpAtConsole = `
At the console type \${consoleUser}, \${consoleWord} and \${address} where the login and the address of the device belong: Barrow puts them in,
and keeps the names.`;

/** Lets a person speak with a device, and keeps what was said. */
async function converse(say: Say, barrow: BarrowClient, id: string, over: RecordedOver, greeting: string, gives: Gives): Promise<Session> {
  const { input = process.stdin } = say.io;
  // With --json only the answer at the end stands on standard output.
  const out = say.json ? say.io.err : say.io.out;
  const talk: Exchange[] = [];
  const [finds, given, takes, headers]: [Record<string, string>, Record<string, string>, Record<string, string>, Record<string, string>] = [
    {},
    {},
    {},
    {},
  ];
  const refusals: Conversation['refusals'] = [];
  out(greeting);
  const lines = createInterface({ input, crlfDelay: Infinity });
  for await (const line of lines) {
    const [, word, rest = ''] = /^:(\w+)\s*(.*)$/.exec(line) ?? [];
    if (word === 'end') break;
    if (word === 'header') {
      const [, name, value] = /^([A-Za-z][A-Za-z0-9-]*)\s+(.+)$/.exec(rest) ?? [];
      if (name === undefined) out('\n(:header takes a name and a value, e.g. :header X-Requested-With pages)\n');
      else headers[name] = value!;
      continue;
    }
    if (word === 'is' || word === 'given' || word === 'take') {
      const [, name, value] = /^([a-z][A-Za-z0-9]*)\s+(.+)$/.exec(rest) ?? [];
      if (name === undefined) out(`\n(:${word} takes a name and a value, e.g. :is firmware 4.2.1)\n`);
      else if (word === 'is' && !gives.fits(name)) out(`\n(${gives.words(name)})\n`);
      else (word === 'is' ? finds : word === 'take' ? takes : given)[name] = value!;
      continue;
    }
    if (word === 'no') {
      const cause = rest.trim() || 'unexpected-answer';
      if (!isCauseCode(cause)) {
        out(`\n(${cause} is no cause; docs/causes.md has them all.)\n`);
        continue;
      }
      const last = talk.pop();
      if (last === undefined) out('\n(:no is said after what was refused.)\n');
      else refusals.push({ after: 'say' in last ? last.say : last.ask, answer: last.answer, cause });
      continue;
    }
    if (word !== undefined && word !== 'listen') {
      out(`\n(${line} is not known.)\n${help}\n`);
      continue;
    }
    const { answer, said, status, ends } = await barrow.sayIn(id, word === 'listen' ? null : line, headers);
    out(answer);
    // What stands by its name is given by Barrow, here and whenever it is played.
    if (over !== 'shell') for (const [whole, name] of (said ?? '').matchAll(/\$\{(\w+)\}/g)) given[name!] = whole;
    const last = talk.at(-1);
    if (word === 'listen' && last)
      talk[talk.length - 1] = { ...last, answer: last.answer + answer, ...(ends ? { ends: true as const } : {}) };
    else if (over === 'web') {
      const [, ask = said ?? line, body] = /^(\S+ \S+) (.+)$/.exec((said ?? line).trim()) ?? [];
      const sent = Object.keys(headers).length === 0 ? {} : { headers: { ...headers } };
      talk.push({ ask, ...(body === undefined ? {} : { body }), ...sent, status: status ?? 0, answer });
    } else talk.push({ say: said ?? line, answer, ...(ends ? { ends: true as const } : {}) });
    if (ends) break;
  }
  lines.close();
  return { conversation: { greeting, talk, finds, takes, given, refusals } };
}

const triedText = ({ io }: Say, t: Tried, places: Readonly<Record<string, string>> = {}): string =>
  [
    `${t.differences.length === 0 ? makeColours(io).green('✓') : makeColours(io).red('✕')} ${t.procedure}: ${
      t.differences.length === 0 ? `${count(t.steps.length, 'step')}, as it was recorded` : 'not as it was recorded'
    }`,
    ...t.steps.map((step) => `    ${step}`),
    ...Object.entries(t.gives).map(
      ([key, value]) => `    → ${key}: ${value}${places[key] === undefined ? '' : makeColours(io).dim(`   from "${places[key]}"`)}`,
    ),
    ...t.differences.map((d) => `  ${d}`),
  ].join('\n');

/** How gear is taught that Barrow does not know. */
export const registerTeaching: Register = (program, act) => {
  const family = program.commands.find((c) => c.name() === 'family')!;
  family
    .command('new <device>')
    .description('draft a family file from what a device answered that no family fits')
    .option('--versions <list>', 'two or three versions of it, the oldest first, e.g. "1.9.2, 1.10.0, 2.0.1"')
    .option('--family <name>', 'what the family is to be called, in small letters')
    .option('--title <words>', 'what its devices are called')
    .option('--maker <name>', 'who makes it')
    .option('--model <name>', 'the model of this device')
    .option('--kind <kind>', 'switch, router, access-point, controller, camera, recorder, phone, other …')
    .option('--out <file>', 'write it there; without, it is printed')
    .action(
      act(
        async (
          { say, client },
          device: string,
          o: { versions?: string; family?: string; title?: string; maker?: string; model?: string; kind?: string; out?: string },
        ) => {
          const { out, ...query } = o;
          const made = await client().familyDraft(device, query as object);
          if (out === undefined) return print(say, made, () => made.text.trimEnd());
          const { writeFile } = await import('node:fs/promises');
          await writeFile(out, made.text, { flag: 'wx' }).catch((error: NodeJS.ErrnoException) => {
            throw wrong(
              'file-unusable',
              'The draft was not written',
              `${out} ${error.code === 'EEXIST' ? 'is there already' : `cannot be written: ${error.code ?? error.message}`}.`,
              'Name another file.',
            );
          });
          print(say, { ...made, file: out }, () =>
            [
              `${out} is a draft of the family ${made.family}. Read it through, then:`,
              `  barrow family check ${out}`,
              `  barrow family record ${out} record ${device}`,
              `  barrow family add ${out}`,
            ].join('\n'),
          );
        },
      ),
    );
  family
    .command('record <file> <procedure> <device>')
    .description('do by hand on a device what a procedure is to do; Barrow writes it into the file')
    .option(
      '--over <what>',
      'shell (SSH); web: requests, one a line, e.g. GET /state, or POST /restart and what goes with it; or console: the line of its console server',
      'shell',
    )
    .option('--is <name=value>', 'what is to be found in the answers, e.g. firmware=4.2.1; several times', gather, [])
    .option('--given <name=value>', 'what Barrow gives instead of what you type, e.g. imageFile=tb24-4.3.0.simg; several times', gather, [])
    .option('--replace', 'instead of the procedure of that name that is in the file')
    .action(
      act(
        async (
          { say, client },
          file: string,
          procedure: string,
          device: string,
          o: { over: string; is: string[]; given: string[]; replace?: boolean },
        ) => {
          const {
            conversationFile,
            concealed,
            hasProcedure,
            hidden,
            mayGive,
            secretsIn,
            remarksOfSense,
            procedureNames,
            withProcedure,
            writeConversation,
            readConversation,
            parseFamily,
            FamilyFileError,
            faultLines,
            tryProcedure,
          } = await import('@barrow/families');
          const known = procedureNames.find((n) => n === procedure);
          if (known === undefined)
            throw wrong(
              'procedure-unknown',
              'Nothing is recorded',
              `"${procedure}" is no procedure.`,
              `They are ${procedureNames.join(', ')}.`,
            );
          const over = recordedOver.find((way) => way === o.over);
          if (over === undefined)
            throw wrong(
              'over-unknown',
              'Nothing is recorded',
              `--over takes ${recordedOver.join(', ')}, not "${o.over}".`,
              'Leave it out for the shell.',
            );
          const text = await readText(file);
          if (hasProcedure(text, known) && !o.replace)
            throw wrong(
              'procedure-there',
              'Nothing is recorded',
              `${file} has a procedure ${known} already.`,
              'Say that it is to be replaced: --replace.',
            );
          const [finds, given] = [pairs(o.is, '--is'), pairs(o.given, '--given')];
          const names = mayGive(known);
          const gives: Gives = {
            fits: (name) => names.length === 0 || names.includes(name),
            words: (name) => `Nobody reads "${name}" of ${known}: it may give ${names.join(', ')}${meantText(name, names) || '.'}`,
          };
          const unread = Object.keys(finds).find((name) => !gives.fits(name));
          if (unread !== undefined)
            throw wrong('name-unread', 'Nothing is recorded', gives.words(unread), 'Name what it is by one of these.');
          const barrow = client();
          const opened = await barrow.record(device, over);
          say.io.err(`${help}${over === 'console' ? helpAtConsole : over === 'web' ? helpOfPages : ''}\n`);
          let session: Session;
          try {
            session = await converse(say, barrow, opened.id, over, opened.greeting, gives);
          } finally {
            await barrow.endRecording(opened.id).catch(() => undefined);
          }
          const { talk } = session.conversation;
          if (talk.length === 0)
            throw new CommandError(
              exit.workFailed,
              'nothing-said',
              'Nothing was recorded',
              'Nothing was said to it.',
              'Type what the procedure is to do.',
            );
          const sources = secretsIn(text);
          const said: Conversation = {
            procedure: known,
            device: opened.device,
            recorded: new Date().toISOString(),
            greeting: session.conversation.greeting,
            talk,
            given: { ...given, ...session.conversation.given },
            finds: { ...finds, ...session.conversation.finds },
            takes: session.conversation.takes,
            refusals: session.conversation.refusals,
          };
          const conversation = concealed(said, sources);
          const made = withProcedure(text, conversation);
          const kept = conversationFile(file, known);
          const { mkdir, writeFile } = await import('node:fs/promises');
          await mkdir(dirname(kept), { recursive: true });
          await writeFile(kept, writeConversation(conversation));
          await writeFile(file, made.text);
          let tried: Tried | null = null;
          let faults: string | null = null;
          const remarks: string[] =
            known === 'configuration' && sources.length === 0
              ? [
                  `what is secret in its settings stands in ${kept} as it came: say which lines are with configuration.secrets, and record this anew`,
                ]
              : [];
          if (talk.some((e) => ('say' in e ? e.say : `${e.ask} ${e.body ?? ''}`).includes(hidden)))
            remarks.push(
              'Barrow replaced a password that you typed, and cannot send it again. In a form, type ${pageUser} and ${pageWord}: see docs/teach-a-device-family.md',
            );
          try {
            const family = parseFamily(made.text, file);
            remarks.push(...remarksOfSense(family).flatMap((r) => (r.path[1] === known ? [r.message] : [])));
            tried = await tryProcedure(family, readConversation(await readText(kept), kept));
          } catch (error) {
            if (!(error instanceof FamilyFileError)) throw error;
            faults = faultLines(error.faults);
          }
          print(
            say,
            { file, conversation: kept, procedure: known, unfound: made.unfound, prompt: made.prompt, tried, faults, remarks },
            () =>
              [
                '',
                `${file} has the procedure ${known} now; what was said is kept in ${kept}.`,
                ...(made.unfound.length > 0 ? [`Not found in the answers: ${made.unfound.join(', ')}.`] : []),
                ...remarks.map((remark) => `Look: ${remark}`),
                ...(faults === null ? [triedText(say, tried!, made.places)] : ['What is missing for more, or wrong:', faults]),
                `Read the procedure${conversation.refusals.length > 0 ? '' : ': how it could be refused (`fails`, or :no while it is recorded) only you know'}. Then \`barrow family try ${file}\`.`,
              ].join('\n'),
          );
        },
      ),
    );
  family
    .command('try <file>')
    .description('play its procedures against what was recorded beside it, with no device; or one that only asks against a device')
    .option('--against <device>', 'carry out the procedures that only ask on this device')
    .option('--only <procedure>', 'this procedure alone')
    .option('--may-change', 'with --against: carry out steps that may change the device, such as lines typed into its shell')
    .action(
      act(async ({ say, client }, file: string, o: { against?: string; only?: string; mayChange?: boolean }) => {
        const { ConversationError, conversationFolder, FamilyFileError, faultLines, onlyAsk, parseFamily, readConversation, tryProcedure } =
          await import('@barrow/families');
        const text = await readText(file);
        const parsed = (() => {
          try {
            return parseFamily(text, file);
          } catch (error) {
            if (!(error instanceof FamilyFileError)) throw error;
            throw new CommandError(exit.workFailed, 'family-file', 'Nothing was tried', faultLines(error.faults), 'Mend these first.');
          }
        })();
        if (o.against !== undefined) {
          const names = Object.keys(parsed.procedures).filter(
            (n) => onlyAsk.some((one) => one === n) && (o.only === undefined || n === o.only),
          );
          if (names.length === 0)
            throw wrong(
              'procedure-missing',
              'Nothing was tried',
              `${file} has none that only asks${o.only ? ` of the name ${o.only}` : ''}.`,
              `On a device ${onlyAsk.join(', ')} can be tried.`,
            );
          const all: FamilyTrial[] = [];
          for (const name of names) all.push(await faultsIn(file, client().tryFamily(text, name, o.against, o.mayChange === true)));
          return print(say, all, () =>
            all
              .map((t) =>
                [
                  `${makeColours(say.io).green('✓')} ${t.procedure} on ${t.device}`,
                  ...Object.entries(t.gives).map(([key, value]) => `    → ${key}: ${value}`),
                  ...Object.entries(t.tables).map(([of, rows]) => `    → ${of}: ${count(rows.length, 'row')}`),
                ].join('\n'),
              )
              .join('\n'),
          );
        }
        const { readdir } = await import('node:fs/promises');
        const folder = conversationFolder(file);
        const there = (await readdir(folder).catch(() => [])).filter((f) => f.endsWith('.yaml')).sort();
        const tried: Tried[] = [];
        for (const name of there) {
          const path = join(folder, name);
          try {
            const conversation = readConversation(await readText(path), path);
            if (o.only === undefined || conversation.procedure === o.only) tried.push(await tryProcedure(parsed, conversation));
          } catch (error) {
            if (!(error instanceof ConversationError)) throw error;
            tried.push({ procedure: name.replace(/\.yaml$/, ''), steps: [], gives: {}, differences: [error.message] });
          }
        }
        const untried = Object.keys(parsed.procedures).filter(
          (n) => !tried.some((t) => t.procedure === n) && (o.only === undefined || o.only === n),
        );
        print(say, { file, tried, untried }, () =>
          [
            ...(tried.length === 0
              ? [`No conversation is kept in ${folder}: \`barrow family record ${file} PROCEDURE DEVICE\` makes one.`]
              : tried.map((t) => triedText(say, t))),
            ...(untried.length > 0 ? [`Not recorded, and so not tried: ${untried.join(', ')}.`] : []),
          ].join('\n'),
        );
        if (tried.some((t) => t.differences.length > 0)) throw new Quiet(exit.workFailed);
      }),
    );
};
