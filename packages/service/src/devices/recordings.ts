import { CauseError, type Recording, type RecordingAnswer } from '@barrow/core';
import { parseFamily, promptOf, requestIn, type Family } from '@barrow/families';
import type { Context } from '../context.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import { DeviceEntity, type DeviceRow } from '../data/entities.js';
import { everyWord } from '../touch/credential-words.js';
import { lastNumber } from '../touch/outlets.js';
import { hideWords } from '../touch/secrets.js';
import { Touch } from '../touch/touch.js';
import type { Devices } from './devices.js';

/** A session in which nothing is said for so long is let go of. */
const idleMs = 10 * 60_000;
const mostAtOnce = 10;
/** How long nothing more comes where it is not seen that the device waits; and how long one answer is listened to at most. */
const quietMs = 2500;
const listenMs = 60_000;
const pageMs = 30_000;

/** Gear of which nothing is known but that it has a shell and pages: whatever ends its first words is taken for its prompt. */
const unknownGear = (): Family =>
  parseFamily(
    `family: unknown
title: Not known yet
maker: not known
kind: other
models: [{ model: not known, revisions: ['-'] }]
versions: { patterns: ['(?P<n>\\d+)'], order: [{ part: n }], write: '{n}' }
shell: { prompt: '[\\s\\S]$', limit: 20 s }
procedures:
  record:
    do: [{ get: '\${deviceName}', keep: answer }]
    gives: { name: '\${answer}' }
`,
    'recordings.ts',
  );

/** What Barrow gives who speaks over a console, by the name under which a procedure is given it. */
type Given = Readonly<Record<'consoleUser' | 'consoleWord' | 'address', string>>;

interface Open {
  readonly device: string;
  /** Over a console. */
  readonly given: Given | null;
  readonly over: Recording['over'];
  readonly touch: Touch;
  /** How it shows that it waits, once that was seen. */
  prompt: RegExp | null;
  timer: NodeJS.Timeout;
}

/** A request in which the login stands by its names, whatever the person typed. */
function withNames(said: string, login: { readonly pageUser: string; readonly pageWord: string }, isForm: boolean): string {
  const spellings = (value: string): string[] => [
    ...new Set([value, encodeURIComponent(value), encodeURIComponent(value).replaceAll('%20', '+')]),
  ];
  const [, request = said, body] = /^(\S+ \S+) (.+)$/s.exec(said) ?? [];
  if (body === undefined) return said;
  let named = body;
  if (login.pageWord.length > 3) for (const word of spellings(login.pageWord)) named = named.replaceAll(word, () => '${pageWord}');
  if (isForm && login.pageUser !== '')
    named = named
      .split('&')
      .map((field) => {
        const [name, value] = [field.slice(0, field.indexOf('=')), field.slice(field.indexOf('=') + 1)];
        return spellings(login.pageUser).includes(value) ? `${name}=\${pageUser}` : field;
      })
      .join('&');
  return `${request} ${named}`;
}

/** Sessions in which a person does by hand what a procedure is to do: what they type is sent as it is, and nothing else. */
export class Recordings {
  readonly #open = new Map<string, Open>();

  constructor(
    private readonly context: Context,
    private readonly parts: { readonly devices: Devices; readonly rolloutOf: (device: string) => string | null },
  ) {}

  /** @throws Refusal when it is in a rollout, too many are open, or it lets nobody in */
  async begin(device: string, over: Recording['over']): Promise<Recording> {
    const { row } = await this.parts.devices.get(device);
    const refuse = (code: string, why: string, next: string): Refusal => new Refusal(409, code, 'Nothing is recorded', why, next);
    const rollout = this.parts.rolloutOf(row.id);
    if (rollout !== null)
      throw refuse('device-busy', `${row.name} is in the rollout ${rollout}.`, 'Wait until that has ended, or take another device.');
    if (this.#open.size >= mostAtOnce)
      throw refuse('recordings-full', `${mostAtOnce} sessions are open.`, 'End one of them; one that nothing is said in ends by itself.');
    const family = row.family === null ? undefined : this.context.families.get(row.family);
    const line = over === 'console' ? await this.#lineOf(row, refuse) : null;
    const touch = line?.touch ?? new Touch(this.context, row, over === 'shell' && family?.shell ? family : unknownGear());
    const id = newId('rec');
    const own = { device: row.name, over, touch, given: line?.given ?? null };
    const one: Open = { ...own, prompt: null, timer: setTimeout(() => this.end(id), idleMs) };
    one.timer.unref();
    let greeting = '';
    if (over !== 'web')
      try {
        if (line) await touch.run('join-line');
        const shell = await touch.shell();
        // What was taken to see that it waits is in the record; the rest comes still.
        const rest = await shell.settled(quietMs / 2, quietMs / 2, () => false);
        greeting = line
          ? rest
          : shell.conversation
              .filter((e) => e.from === 'device')
              .map((e) => e.text)
              .join('');
        // A console asks for other things until somebody is logged in.
        const prompt = line ? null : promptOf({ greeting: greeting || rest, talk: [], device: '' });
        one.prompt = prompt === null ? null : new RegExp(prompt);
      } catch (error) {
        clearTimeout(one.timer);
        touch.close();
        if (!(error instanceof CauseError)) throw error;
        const next =
          error.code === 'awaiting-approval'
            ? `When it is what you think that it is: \`barrow device approve ${row.name}\`.`
            : `See \`barrow device show ${line?.server ?? row.name}\`, and mend that.`;
        throw refuse(error.code, `${line?.server ?? row.name} does not let it in: ${error.detail}`, next);
      }
    this.#open.set(id, one);
    return { id, device: row.name, over, greeting: touch.hide(greeting.replace(/\r/g, '')) };
  }

  /** The line of a console server behind which a device is, and what one logs in with there. @throws Refusal */
  async #lineOf(
    row: DeviceRow,
    refuse: (code: string, why: string, next: string) => Refusal,
  ): Promise<{ readonly touch: Touch; readonly server: string; readonly given: Given }> {
    const { context } = this;
    const end = row.told?.console;
    const server = end && (await context.db.findOne(DeviceEntity, { id: end.device }));
    if (!server || end.port === null)
      throw refuse(
        'console-unknown',
        `Nobody has said into which line of which console server ${row.name} is plugged.`,
        `Say it: \`barrow device set ${row.name} --console SERVER:LINE\`.`,
      );
    const family = context.families.get(server.family ?? '');
    if (!family?.procedures['join-line'])
      throw refuse(
        'console-unfit',
        `${server.name} is not one whose lines Barrow can join.`,
        `Its family file needs \`join-line\`: record that first.`,
      );
    const rollout = this.parts.rolloutOf(server.id);
    if (rollout !== null) throw refuse('device-busy', `${server.name} is in the rollout ${rollout}.`, 'Wait until that has ended.');
    const touch = new Touch(context, server, family, { given: { line: end.port, lineNumber: lastNumber(end.port) } });
    const found = await new Touch(context, row, unknownGear()).passwords().catch((error: unknown) => {
      if (error instanceof CauseError) return null;
      throw error;
    });
    const [login] = found?.credentials.filter((c) => c.user !== null && c.kind === 'ssh-password') ?? [];
    const consoleWord = login ? context.sealer.open(login.sealed) : '';
    return { touch, server: server.name, given: { consoleUser: login?.user ?? '', consoleWord, address: row.address } };
  }

  /**
   * Sends what a person typed, or asks for a page, and tells what came.
   *
   * @param said null: only listens on
   * @throws Refusal
   */
  async say(id: string, said: string | null, headers: Readonly<Record<string, string>> = {}): Promise<RecordingAnswer> {
    const one = this.#open.get(id);
    if (!one) throw notFound('recording', id, 'It has ended, or nothing was said in it for ten minutes. Begin another.');
    one.timer.refresh();
    const { touch } = one;
    if (one.over === 'web') return this.#ask(one, said ?? '', headers);
    const shell = await touch.shell();
    if (shell.closed) {
      this.end(id);
      throw new Refusal(409, 'session-lost', 'Nothing was sent', `${one.device} has ended the session.`, 'Begin another.');
    }
    const { given } = one;
    // A login need not be typed: it stands by its name, and is put in here.
    const typed =
      given === null || said === null
        ? said
        : said.replace(/\$\{(consoleUser|consoleWord|address)\}/g, (whole, name: keyof Given) => {
            if (given[name] !== '') return given[name];
            throw new Refusal(
              409,
              'login-unknown',
              'Nothing was sent',
              `Nothing is known that ${whole} could stand for: no login with a password may be sent to ${one.device}.`,
              `\`barrow device approve ${one.device}\`, and see that its network names a login; or type it yourself.`,
            );
          });
    if (typed !== null) shell.send(`${typed}\n`);
    const answer = await shell.settled(quietMs, listenMs, (output) => one.prompt?.test(output.replace(/\r/g, '')) ?? false);
    const ends = shell.closed;
    if (ends) this.end(id);
    const words = await everyWord(this.context);
    const hide = (text: string): string => hideWords(touch.hide(text), words);
    const isWord = given !== null && given.consoleWord !== '' && said === given.consoleWord;
    return {
      answer: hide(answer.replace(/\r/g, '')),
      said: said === null ? null : isWord ? '${consoleWord}' : hide(said),
      status: null,
      ends,
    };
  }

  /** A request as a person wrote it: a method, a path, and what goes with it. */
  async #ask({ touch }: Open, said: string, headers: Readonly<Record<string, string>>): Promise<RecordingAnswer> {
    // A form may be filled in by names, or by the login itself: what is kept has the names.
    const login = await touch.pageLogin().catch((error: unknown) => {
      if (!(error instanceof CauseError) || /\$\{page(User|Word)\}/.test(said))
        throw error instanceof CauseError
          ? new Refusal(
              409,
              error.code,
              'Nothing was sent',
              error.detail,
              'Add a credential of the kind http-basic to the network of the device, and approve the device.',
            )
          : error;
      return null;
    });
    const isForm = requestIn(said)?.type === 'application/x-www-form-urlencoded';
    const named = login === null ? said : withNames(said, login, isForm);
    const words = await everyWord(this.context);
    const hide = (text: string): string => hideWords(touch.hide(text), words);
    if (Object.values(headers).some((value) => hideWords(value, words) !== value))
      throw new Refusal(
        422,
        'header-secret',
        'Nothing was sent',
        'A header field holds a password of a credential, and the recording would keep it.',
        'Leave the header out: Barrow logs in by itself with the credential of the network.',
      );
    const typed =
      login === null
        ? said
        : named.replace(/\$\{(pageUser|pageWord)\}/g, (_, name: keyof typeof login) =>
            isForm ? encodeURIComponent(login[name]) : login[name],
          );
    const asked = requestIn(typed);
    if (asked === null)
      throw new Refusal(
        422,
        'request-malformed',
        'Nothing was asked',
        `"${hide(said)}" is no request.`,
        'Write a method and a path, and after them what goes with it: GET /state, or POST /restart {"sure":true}.',
      );
    try {
      const { status, body } = await touch.page({ ...asked, headers }, pageMs);
      return { answer: hide(body), said: hide(named), status, ends: false };
    } catch (error) {
      if (!(error instanceof CauseError)) throw error;
      return { answer: hide(error.detail), said: hide(named), status: null, ends: false };
    }
  }

  end(id: string): void {
    const one = this.#open.get(id);
    if (!one) return;
    clearTimeout(one.timer);
    one.touch.close();
    this.#open.delete(id);
  }

  stop(): void {
    for (const id of [...this.#open.keys()]) this.end(id);
  }
}
