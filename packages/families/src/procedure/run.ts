import { CauseError, isCauseCode, pattern, safeText, type CauseCode } from '@barrow/core';
import { ownNow, WireError, xmlEscape } from '@barrow/wire';
import { RE2JS } from 're2js';
import type {
  Family,
  FamilyWithShell,
  GetStep,
  OnvifStep,
  ProcedureName,
  ProcedureStep,
  ReceiveStep,
  RequestStep,
  SipStep,
  SnmpSet,
  SnmpStep,
  UploadStep,
} from '../schema/shape.js';
import { fill, fillSent, holds, type Values } from './values.js';

/** What of an output was waited for, and how much of it that takes; `moved`: it goes on, and may take as long again; null: not yet. */
export type Heard<T> = { readonly found: T; readonly length: number } | 'moved' | null;

/** The part of a shell session that procedures use; a recorded conversation can stand in for a device. */
export interface Shell {
  send(text: string): void;
  take<T>(test: (output: string) => Heard<T>, limitMs: number, signal?: AbortSignal): Promise<T>;
  ended(limitMs: number): Promise<void>;
}

type Headers = Readonly<Record<string, string>>;

/** The part of a device's web server that procedures use. */
export interface Web {
  /** @throws WireError */
  get(path: string, limitMs: number, headers?: Headers): Promise<{ readonly status: number; readonly body: string }>;
  /** @throws WireError */
  ask?(
    request: {
      readonly method: 'GET' | 'POST' | 'PUT' | 'DELETE';
      readonly path: string;
      readonly body?: string;
      readonly type: string;
      readonly headers?: Headers;
    },
    limitMs: number,
  ): Promise<{ readonly status: number; readonly body: string }>;
}

/** The part of a device's SIP user agent that procedures use. */
export interface Sip {
  /** @throws WireError */
  ask(
    request: { readonly method: SipStep['sip']; readonly event?: string | undefined; readonly body?: string; readonly type: string },
    limitMs: number,
  ): Promise<{ readonly status: number; readonly head: string; readonly body: string }>;
}

/** The part of a device's SNMP agent that procedures use. */
export interface Snmp {
  /** Those that the device does not have are absent. @throws WireError */
  get(oids: readonly string[], limitMs: number): Promise<ReadonlyMap<string, string>>;
  /** The objects below one, by their identifiers. @throws WireError */
  walk(root: string, limitMs: number): Promise<ReadonlyMap<string, string>>;
  /** @throws WireError `refused` when the device does not let them be set */
  set(values: readonly SnmpSet[], limitMs: number): Promise<void>;
}

/** The part of a device's ONVIF services that procedures use. */
export interface Onvif {
  /** @throws WireError */
  ask(
    request: { readonly operation: string; readonly path?: string; readonly namespace?: string | undefined; readonly body: string },
    limitMs: number,
  ): Promise<{ readonly field: (name: string) => string | null; readonly fault: string | null; readonly text: string }>;
}

/** Asks a person for something, and waits for the answer. @throws CauseError when nobody gives one */
export type AskPerson = (
  words: string,
  how: { readonly fits: string | null; readonly like: string | null; readonly secret: boolean },
) => Promise<string>;

/** One file of an image, as it is carried to a device. */
export interface CarriedFile {
  readonly name: string;
  readonly path: string;
  readonly bytes: number;
  readonly sha256: string;
}

/** Carries a file to the device, and answers with its words. @throws WireError */
export type Carrier = (
  file: CarriedFile,
  how: Pick<UploadStep, 'over' | 'as' | 'field' | 'method'> & { readonly to: string; readonly fields: Headers; readonly headers: Headers },
  limitMs: number,
) => Promise<{ readonly status: number; readonly body: string }>;

/** A place that is kept open for one file of the device. */
export interface Receiving {
  /** What the device is told: `receiveName`, `storeAddress`, `storePort`. */
  readonly given: Readonly<Record<string, string>>;
  /** Waits until all of it is there. @throws CauseError */
  content(limitMs: number): Promise<string>;
  /** What was the matter, when the device says that it could not send it, or says nothing. */
  explain(error: Error): Promise<Error>;
  /** Nothing is taken any more. */
  end(): void;
}

export interface ProcedureRun {
  readonly family: Family;
  /** null: the procedure must not say anything. */
  readonly shell: Shell | null;
  readonly web?: Web | null;
  readonly sip?: Sip | null;
  readonly snmp?: Snmp | null;
  readonly onvif?: Onvif | null;
  /** null: nobody is there. */
  readonly person?: AskPerson | null;
  /** Waits until the device has fetched all of its image; so long nothing may move. */
  readonly fetched?: ((limitMs: number) => Promise<void>) | null;
  /** The files that an upload carries, and what carries them. */
  readonly carry?: { readonly files: readonly CarriedFile[]; readonly by: Carrier } | null;
  /** Opens a place for a file that the device is to send. */
  readonly receive?: (() => Promise<Receiving>) | null;
  /** Values that the procedure may use, e.g. `imageFile`, `storeAddress`. */
  readonly given: Readonly<Record<string, string>>;
  /** Divides every span of the family file; above 1 only for the demo fleet, whose time runs faster. */
  readonly timeScale: number;
  readonly signal?: AbortSignal;
  readonly onProgress?: (percent: number) => void;
}

/** What a procedure found: its `gives`, and every table it read. */
export interface ProcedureResult {
  readonly gives: Readonly<Record<string, string>>;
  readonly tables: Readonly<Record<string, readonly Record<string, string>[]>>;
}

/** No wait on a device is shorter, however fast its time runs: the machine that asks has its own pace. */
const shortestLimit = 5000;

const multiline = RE2JS.MULTILINE;
/** A prompt is looked for in the last characters only; the whole of a long answer would cost its square. */
const promptTail = 256;

/**
 * Carries out a procedure of a family file over a shell.
 * @throws CauseError with the cause that the family file ties to what the device said.
 */
export async function runProcedure(name: ProcedureName, input: ProcedureRun): Promise<ProcedureResult> {
  const procedure = input.family.procedures[name];
  if (!procedure) throw new CauseError('service-fault', `family ${input.family.family} has no procedure ${name}`);
  const values: Values = { single: new Map(Object.entries(input.given)), tables: new Map() };
  const { settings } = input.given;
  if (settings !== undefined)
    values.tables.set(
      'settingsLines',
      settings
        .split(/\r?\n/)
        .filter((line) => line !== '')
        .map((line) => ({ line })),
    );
  const lookup = (key: string): string | undefined => values.single.get(key);
  try {
    await runSteps(procedure.do, input, values, lookup);
  } catch (error) {
    throw asCause(error);
  }
  const gives = Object.fromEntries(Object.entries(procedure.gives ?? {}).map(([key, text]) => [key, fill(text, lookup)]));
  const yields = Object.entries(procedure.yields ?? {}).map(([key, { from, row }]): [string, Record<string, string>[]] => [
    key,
    (values.tables.get(from) ?? []).map((r) =>
      Object.fromEntries(Object.entries(row).map(([column, text]) => [column, fill(text, (n) => r[n] ?? lookup(n))])),
    ),
  ]);
  return { gives, tables: { ...Object.fromEntries(values.tables), ...Object.fromEntries(yields) } };
}

type ShellRun = Pick<ProcedureRun, 'timeScale' | 'signal' | 'onProgress'> & { readonly family: FamilyWithShell; readonly shell: Shell };

function withShell(input: ProcedureRun): ShellRun {
  if (input.shell === null || input.family.shell === undefined) throw new CauseError('service-fault', 'the procedure needs a shell');
  return input as ShellRun;
}

/** Asks for more rights with a second word, which is typed and never recorded. */
export async function raise(input: ShellRun, word: string, conceal: (hide: boolean) => void): Promise<void> {
  const { raise: how, limit } = input.family.shell;
  if (!how) return;
  try {
    input.shell.send(`${how.say}\n`);
    await answerOf(input, { until: how.asks, limit }, undefined);
    conceal(true);
    input.shell.send(`${word}\n`);
    const answer = await answerOf(input, { limit }, undefined);
    conceal(false);
    if (how.refused && pattern(how.refused, multiline).matcher(answer).find())
      throw new CauseError('login-refused', 'the device refused the second word, which gives more rights');
  } catch (error) {
    throw asCause(error);
  } finally {
    conceal(false);
  }
}

/** Waits for the first prompt of a session. */
export async function awaitPrompt(input: ShellRun): Promise<void> {
  try {
    await answerOf(input, { limit: input.family.shell.limit }, undefined);
  } catch (error) {
    throw asCause(error);
  }
}

async function runSteps(
  steps: readonly ProcedureStep[],
  input: ProcedureRun,
  values: Values,
  lookup: (n: string) => string | undefined,
): Promise<void> {
  for (const step of steps) {
    if ('say' in step) await runSay(step, withShell(input), values, lookup);
    else if ('get' in step) await runGet({ ...step, request: step.get, method: 'GET', type: '' }, input, values, lookup);
    else if ('request' in step) await runGet(step, input, values, lookup);
    else if ('upload' in step) await runUpload(step, input, values, lookup);
    else if ('sip' in step) await runSip(step, input, values, lookup);
    else if ('fetched' in step) {
      if (!input.fetched) throw new CauseError('service-fault', 'the procedure waits for a fetch, and nothing is offered');
      await input.fetched(Math.max(shortestLimit, step.fetched.within / input.timeScale));
    } else if ('wait' in step) await pause(step.wait / input.timeScale, input.signal);
    else if ('snmp' in step) await runSnmp(step, input, values, lookup);
    else if ('onvif' in step) await runOnvif(step, input, values, lookup);
    else if ('ask' in step) {
      const { words, as, fits = null, like = null, secret } = step.ask;
      if (!input.person) throw new CauseError('not-answered', `nobody is here to be asked: ${words}`);
      values.single.set(as, await input.person(words, { fits, like, secret }));
    } else if ('forEach' in step) {
      const { from, as, where } = step.forEach;
      // A row is taken as it was read, whatever its steps read anew.
      for (const row of [...(values.tables.get(from) ?? [])]) {
        if (where && !holds(where, (n) => row[n] ?? lookup(n))) continue;
        for (const [key, text] of Object.entries(row)) values.single.set(`${as}.${key}`, text);
        await runSteps(step.do, input, values, lookup);
      }
    } else if ('check' in step) {
      if (!holds(step.check, lookup)) throw new CauseError(asCode(step.cause), fill(step.detail, lookup));
    } else if ('set' in step) {
      for (const [key, text] of Object.entries(step.set)) values.single.set(key, fill(text, lookup));
    } else if ('pick' in step) {
      const { from, where, as, otherwise } = step.pick;
      const row = (values.tables.get(from) ?? []).find((r) => holds(where, (n) => r[n] ?? lookup(n)));
      if (row) for (const [key, text] of Object.entries(row)) values.single.set(`${as}.${key}`, text);
      else if (otherwise) throw new CauseError(asCode(otherwise), `no row of ${from} fits`);
    } else if ('eachFile' in step) {
      for (const file of input.carry?.files ?? []) {
        setFile(file, values);
        await runSteps(step.eachFile, input, values, lookup);
      }
    } else if ('receive' in step) {
      await runReceive(step, input, values, lookup);
    } else if ('when' in step) {
      if (holds(step.when, lookup)) await runSteps(step.do, input, values, lookup);
    } else {
      const { every, limit, until, otherwise } = step.repeat;
      const ends = ownNow() + Math.max(shortestLimit, limit / input.timeScale);
      for (;;) {
        await runSteps(step.do, input, values, lookup);
        if (holds(until, lookup)) break;
        if (ownNow() > ends) throw new CauseError(asCode(otherwise), `still not so after ${Math.round(limit / 1000)} s`);
        await pause(every / input.timeScale, input.signal);
      }
    }
  }
}

/** The most rows that one answer yields. */
const mostRows = 1000;

async function runGet(step: RequestStep, input: ProcedureRun, values: Values, lookup: (n: string) => string | undefined): Promise<void> {
  if (!input.web) throw new CauseError('service-fault', "the procedure needs the device's web server");
  const path = fillSent(step.request, lookup);
  const limit = Math.max(shortestLimit, (step.limit ?? 30_000) / input.timeScale);
  const { method, type } = step;
  const headers = filled(step.headers, lookup);
  // A value in a form is encoded as forms encode it (WHATWG URL §5.2); what the file says besides is sent as it stands.
  const inBody = type === 'application/x-www-form-urlencoded' ? encodedForForm(lookup) : lookup;
  if (method !== 'GET' && !input.web.ask) throw new CauseError('service-fault', 'the procedure may only read pages');
  const { status, body } =
    method === 'GET'
      ? await input.web.get(path, limit, headers)
      : await input.web.ask!(
          { method, path, type, headers, ...(step.body === undefined ? {} : { body: fillSent(step.body, inBody, true) }) },
          limit,
        );
  // A refusal is told by words as often as by a status; the words say more.
  if (status < 200 || status > 299) {
    takeAnswer({ fails: step.fails }, body, values, (line) => `to ${path} the device said: ${line}`);
    throw new CauseError('unexpected-answer', `to ${path} the device answered with status ${status}: ${safeText(body.trim(), 200)}`);
  }
  takeAnswer(step, body, values, (line) => `to ${path} the device said: ${line}`);
  if (!step.json && !step.fields) return;
  let read: unknown;
  try {
    read = JSON.parse(body);
  } catch {
    throw new CauseError('unexpected-answer', `${path} is not JSON: ${safeText(body, 100)}`);
  }
  for (const [key, from] of Object.entries(step.fields ?? {})) {
    const value = scalar(within(read, from));
    if (value !== null) values.single.set(key, value);
  }
  if (step.json) {
    const list = step.json.at === undefined ? read : within(read, step.json.at);
    if (!Array.isArray(list)) throw new CauseError('unexpected-answer', `${path} has no list${step.json.at ? ` "${step.json.at}"` : ''}`);
    values.tables.set(
      step.json.into,
      list.slice(0, mostRows).map((one: unknown) =>
        Object.fromEntries(
          Object.entries(one !== null && typeof one === 'object' ? one : {}).flatMap(([key, value]) => {
            const text = scalar(value);
            return text === null ? [] : [[key, text]];
          }),
        ),
      ),
    );
  }
}

const filled = (templates: Headers | undefined, lookup: (n: string) => string | undefined): Headers =>
  Object.fromEntries(Object.entries(templates ?? {}).map(([name, value]) => [name, fillSent(value, lookup)]));

const encodedForForm =
  (lookup: (n: string) => string | undefined) =>
  (name: string): string | undefined => {
    const value = lookup(name);
    return value === undefined ? undefined : encodeURIComponent(value).replaceAll('%20', '+');
  };

/** What stands under a key of a JSON answer, or under keys within keys. */
function within(read: unknown, path: string): unknown {
  const under = (value: unknown, key: string): unknown =>
    value !== null && typeof value === 'object' && Object.hasOwn(value, key) ? (value as Record<string, unknown>)[key] : undefined;
  return under(read, path) ?? path.split('.').reduce(under, read);
}

async function runSnmp(step: SnmpStep, input: ProcedureRun, values: Values, lookup: (n: string) => string | undefined): Promise<void> {
  if (!input.snmp) throw new CauseError('service-fault', 'the procedure speaks SNMP, and nothing can here');
  const limit = Math.max(shortestLimit, (step.limit ?? 8000) / input.timeScale);
  const ask = step.snmp;
  const put = (text: string): string => safeText(text.trim(), 400);
  if ('get' in ask) {
    const wanted = Object.entries(ask.get).map(([key, oid]) => [key, fillOid(oid, lookup)] as const);
    const found = await input.snmp.get(
      wanted.map(([, oid]) => oid),
      limit,
    );
    for (const [key, oid] of wanted) {
      const value = found.get(oid);
      if (value !== undefined) values.single.set(key, put(value));
    }
  } else if ('rows' in ask) {
    const rows = new Map<string, Record<string, string>>();
    for (const [column, root] of Object.entries(ask.rows.columns)) {
      const from = fillOid(root, lookup);
      for (const [oid, value] of await input.snmp.walk(from, limit)) {
        const index = oid.slice(from.length + 1);
        const row = rows.get(index) ?? { index };
        row[column] = put(value);
        if (rows.size < mostRows) rows.set(index, row);
      }
    }
    values.tables.set(ask.rows.into, [...rows.values()]);
  } else {
    const set = ask.set.map(({ oid, type, value }) => ({ oid: fillOid(oid, lookup), type, value: fillSent(value, lookup) }));
    for (const { oid, type, value } of set)
      if ((type === 'integer' || type === 'unsigned') && !/^-?\d+$/.test(value))
        throw new CauseError('value-unsafe', `${oid} is set to a number, and ${safeText(value, 100)} is none`);
    try {
      await input.snmp.set(set, limit);
    } catch (error) {
      if (!(error instanceof WireError) || error.fault !== 'refused') throw error;
      throw new CauseError(asCode(step.refused ?? 'unexpected-answer'), safeText(error.detail, 300));
    }
  }
}

/** An object identifier with values in it. @throws CauseError `value-unsafe` */
function fillOid(template: string, lookup: (n: string) => string | undefined): string {
  const oid = fillSent(template, lookup);
  if (!/^\d+(\.\d+)+$/.test(oid)) throw new CauseError('value-unsafe', `${safeText(oid, 200)} is no object identifier`);
  return oid;
}

/** RFC 3261 §11.2: OPTIONS is answered as a call would be, and by who has no account so; what it is it tells all the same (§21.4.5, §21.4.18). */
const registeredNowhere: ReadonlySet<number> = new Set([404, 480]);

async function runSip(step: SipStep, input: ProcedureRun, values: Values, lookup: (n: string) => string | undefined): Promise<void> {
  if (!input.sip) throw new CauseError('service-fault', 'the procedure speaks SIP, and nothing can here');
  const limit = Math.max(shortestLimit, (step.limit ?? 8000) / input.timeScale);
  const { sip: method, event, type } = step;
  // A message has lines of its own; what is put into it has not.
  const body = step.body === undefined ? {} : { body: fillSent(step.body, lookup) };
  const { status, head, body: told } = await input.sip.ask({ method, event, type, ...body }, limit);
  const answer = `${head}\n\n${told}`;
  const said = (line: string): string => `to ${method} the device said: ${line}`;
  takeAnswer(step, answer, values, said);
  const isTold = (status >= 200 && status <= 299) || (method === 'OPTIONS' && registeredNowhere.has(status));
  if (!isTold) throw new CauseError('unexpected-answer', said(safeText(head.split('\n')[0] ?? '', 200)));
}

async function runOnvif(step: OnvifStep, input: ProcedureRun, values: Values, lookup: (n: string) => string | undefined): Promise<void> {
  if (!input.onvif) throw new CauseError('service-fault', 'the procedure asks an ONVIF service, and nothing can here');
  const limit = Math.max(shortestLimit, (step.limit ?? 8000) / input.timeScale);
  const { onvif: operation, namespace } = step;
  const inXml = (key: string): string | undefined => {
    const value = lookup(key);
    return value === undefined ? undefined : xmlEscape(value);
  };
  const path = step.path === undefined ? {} : { path: fillSent(step.path, lookup) };
  const body = step.body === undefined ? '' : fillSent(step.body, inXml);
  const { field, fault, text } = await input.onvif.ask({ operation, namespace, body, ...path }, limit);
  const said = (line: string): string => `to ${operation} the device said: ${line}`;
  takeAnswer(step, fault === null ? text : `${fault}\n${text}`, values, said);
  if (fault !== null) throw new CauseError('unexpected-answer', said(safeText(fault, 200)));
  for (const [key, from] of Object.entries(step.fields ?? {})) {
    const value = field(from);
    if (value !== null) values.single.set(key, safeText(value.trim(), 400));
  }
}

async function runUpload(step: UploadStep, input: ProcedureRun, values: Values, lookup: (n: string) => string | undefined): Promise<void> {
  if (!input.carry) throw new CauseError('service-fault', 'the procedure carries files, and none are given');
  const limit = Math.max(shortestLimit, (step.limit ?? 60_000) / input.timeScale);
  for (const file of inOrder(input.carry.files, step.order ?? [])) {
    setFile(file, values);
    const to = fillSent(step.upload, lookup);
    const { status, body } = await input.carry.by(
      file,
      {
        over: step.over,
        as: step.as,
        to,
        field: step.field,
        fields: filled(step.fields, lookup),
        headers: filled(step.headers, lookup),
        method: step.method,
      },
      limit,
    );
    const said = (line: string): string => `to ${file.name} at ${to} the device said: ${line}`;
    takeAnswer(step, body, values, said);
    if (status < 200 || status > 299) throw new CauseError('upload-refused', said(`${status} ${safeText(body.trim(), 200)}`));
  }
}

/** In the order of the first pattern that each name fits; where that is the same, as they were. */
function inOrder(files: readonly CarriedFile[], order: readonly string[]): CarriedFile[] {
  const rules = order.map((source) => pattern(source));
  const rank = (file: CarriedFile): number => {
    const at = rules.findIndex((rule) => rule.matcher(file.name).find());
    return at < 0 ? rules.length : at;
  };
  return files
    .map((file) => ({ file, rank: rank(file) }))
    .sort((a, b) => a.rank - b.rank)
    .map(({ file }) => file);
}

function setFile(file: CarriedFile, values: Values): void {
  for (const [key, text] of Object.entries({ fileName: file.name, fileBytes: String(file.bytes), fileSha256: file.sha256 }))
    values.single.set(key, text);
}

async function runReceive(
  step: ReceiveStep,
  input: ProcedureRun,
  values: Values,
  lookup: (n: string) => string | undefined,
): Promise<void> {
  if (!input.receive) throw new CauseError('service-fault', 'the procedure has the device send a file, and nothing can take it here');
  const place = await input.receive();
  try {
    for (const [key, text] of Object.entries(place.given)) values.single.set(key, text);
    await runSteps(step.do, input, values, lookup);
    const content = await place.content(Math.max(shortestLimit, (step.limit ?? 30_000) / input.timeScale));
    values.single.set(step.receive, content);
  } catch (error) {
    throw await place.explain(asCause(error));
  } finally {
    place.end();
  }
}

const scalar = (value: unknown): string | null =>
  typeof value === 'string' || typeof value === 'number' || typeof value === 'boolean' ? safeText(String(value).trim(), 400) : null;

/** Looks in an answer for failures, single values and rows. */
function takeAnswer(
  step: Pick<GetStep, 'capture' | 'rows' | 'keep' | 'fails'>,
  answer: string,
  values: Values,
  said: (line: string) => string,
): void {
  for (const fail of step.fails ?? []) {
    const match = pattern(fail.when, multiline).matcher(answer);
    if (match.find()) throw new CauseError(asCode(fail.cause), said(safeText(lineAround(answer, match.start()), 300)));
  }
  for (const source of step.capture ?? []) {
    const match = pattern(source, multiline).matcher(answer);
    if (!match.find()) continue;
    for (const [key, text] of Object.entries(match.getNamedGroups() as Record<string, string | null>))
      if (text !== null) values.single.set(key, safeText(text.trim(), 400));
  }
  if (step.rows) {
    const rows: Record<string, string>[] = [];
    const match = pattern(step.rows.pattern, multiline).matcher(answer);
    while (rows.length < mostRows && match.find()) {
      const groups = match.getNamedGroups() as Record<string, string | null>;
      rows.push(Object.fromEntries(Object.entries(groups).map(([k, v]) => [k, safeText((v ?? '').trim(), 400)])));
    }
    values.tables.set(step.rows.into, rows);
  }
  if (step.keep) values.single.set(step.keep, answer);
}

async function runSay(
  step: Extract<ProcedureStep, { say: string }>,
  input: ShellRun,
  values: Values,
  lookup: (n: string) => string | undefined,
): Promise<void> {
  const said = fillSent(step.say, lookup);
  input.shell.send(`${said}\n`);
  if (step.endsSession) {
    await input.shell.ended(Math.max(shortestLimit, (step.limit ?? input.family.shell.limit) / input.timeScale));
    return;
  }
  let by = '';
  const raw = await answerOf(input, step, step.progress, (text) => (by = text));
  if (step.endedBy) values.single.set(step.endedBy, safeText(by.trim(), 400));
  // The device echoes what was typed; its answer is what follows.
  const answer = raw.startsWith(said) ? raw.slice(said.length).replace(/^\n/, '') : raw;
  takeAnswer(
    { ...step, fails: [...(step.fails ?? []), ...input.family.shell.fails] },
    answer,
    values,
    (line) => `to "${said}" the device said: ${line}`,
  );
}

/**
 * Reads until the prompt (or another end), turning pages and telling progress on the way; line ends become LF. Where progress is told, the
 * limit is how long nothing may move: who is slow is not at fault.
 */
async function answerOf(
  input: ShellRun,
  step: { until?: string; limit?: number },
  progress: string | undefined,
  onEnd: (text: string) => void = () => undefined,
): Promise<string> {
  const { shell, family } = input;
  const end = pattern(step.until ?? family.shell.prompt);
  const paging = family.shell.paging ? { when: pattern(family.shell.paging.when), answer: family.shell.paging.answer } : null;
  const limit = Math.max(shortestLimit, (step.limit ?? family.shell.limit) / input.timeScale);
  let answer = '';
  let told = -1;
  let at: number | null = null;
  for (;;) {
    const part = await shell.take<{ text: string; page: boolean }>(
      (output) => {
        const tailAt = Math.max(0, output.length - promptTail);
        const tail = output.slice(tailAt);
        let moved = false;
        if (progress) {
          const match = pattern(progress, multiline).matcher(tail);
          let percent: number | null = null;
          while (match.find()) percent = Number(match.group('percent'));
          moved = percent !== at;
          at = percent;
          if (percent !== null && percent > told) {
            told = percent;
            input.onProgress?.(percent);
          }
        }
        const match = end.matcher(tail);
        if (match.find()) {
          onEnd(match.group() ?? '');
          return { found: { text: output.slice(0, tailAt + match.start()), page: false }, length: output.length };
        }
        if (!paging) return moved ? 'moved' : null;
        const page = paging.when.matcher(tail);
        return page.find()
          ? { found: { text: output.slice(0, tailAt + page.start()), page: true }, length: output.length }
          : moved
            ? 'moved'
            : null;
      },
      limit,
      input.signal,
    );
    answer += part.text;
    if (!part.page) break;
    shell.send(paging!.answer);
  }
  return asSeen(answer);
}

/** The text as a terminal would show it: a carriage return or backspace moves back, and what follows is laid over. */
export function asSeen(output: string): string {
  return output
    .replace(/\r+\n/g, '\n')
    .split('\n')
    .map((line) => {
      if (!/[\r\b]/.test(line)) return line;
      const cells: string[] = [];
      let at = 0;
      for (const char of line) {
        if (char === '\r') at = 0;
        else if (char === '\b') at = Math.max(0, at - 1);
        else cells[at++] = char;
      }
      return cells.join('').trimEnd();
    })
    .join('\n');
}

function lineAround(text: string, at: number): string {
  const from = text.lastIndexOf('\n', at) + 1;
  const to = text.indexOf('\n', at);
  return text.slice(from, to < 0 ? undefined : to).trim();
}

function asCode(code: string): CauseCode {
  return isCauseCode(code) ? code : 'service-fault';
}

/** What a failed conversation means for the work at hand. */
export function asCause(error: unknown): Error {
  if (!(error instanceof WireError)) return error instanceof Error ? error : new Error(String(error));
  const code: Record<WireError['fault'], CauseCode> = {
    unreachable: 'unreachable',
    refused: 'unreachable',
    'login-refused': 'login-refused',
    'host-key-changed': 'host-key-changed',
    'login-slow': 'login-slow',
    'sessions-full': 'sessions-full',
    'clock-wrong': 'clock-wrong',
    'key-unusable': 'key-unusable',
    'no-common-algorithm': 'no-common-algorithm',
    lost: 'session-lost',
    timeout: 'no-answer-in-time',
    malformed: 'unexpected-answer',
    cancelled: 'session-lost',
  };
  return new CauseError(code[error.fault], safeText(error.detail, 400));
}

function pause(ms: number, signal?: AbortSignal): Promise<void> {
  return new Promise((resolve, reject) => {
    const abort = (): void => {
      clearTimeout(timer);
      reject(new WireError('cancelled', 'stopped'));
    };
    const timer = setTimeout(() => {
      signal?.removeEventListener('abort', abort);
      resolve();
    }, ms);
    if (signal?.aborted) abort();
    else signal?.addEventListener('abort', abort, { once: true });
  });
}
