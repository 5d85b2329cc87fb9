import { pattern } from '@barrow/core';
import { isMap, parseDocument, type Document } from 'yaml';
import type { ProcedureName } from '../schema/shape.js';
import { requestIn, type Conversation, type Exchange } from './conversation.js';
import { escaped } from './versions.js';

/** A step as it is written into a file. */
type Written = Readonly<Record<string, unknown>>;

const lastLine = (text: string): string => text.replace(/\r/g, '').split('\n').at(-1) ?? '';

/**
 * By what the device shows that it waits for a command: the end that the most of its answers share. Where the device's name stands in
 * it, any name may; null when it never waited.
 */
export function promptOf({ greeting, talk, device }: Pick<Conversation, 'greeting' | 'talk' | 'device'>): string | null {
  const ends = [greeting, ...talk.flatMap((e) => ('say' in e && !e.ends ? [e.answer] : []))].map(lastLine).filter((l) => l.trim() !== '');
  const counted = new Map<string, number>();
  for (const end of ends) counted.set(end, (counted.get(end) ?? 0) + 1);
  const [most] = [...counted].sort((a, b) => b[1] - a[1]);
  if (!most) return null;
  const [end] = most;
  const named = device !== '' && end.includes(device);
  const source = named ? end.split(device).map(escaped).join('[A-Za-z0-9._-]+') : escaped(end);
  return `(?:^|\\n)${source.replace(/ +$/, ' *')}$`;
}

/** Where a value stands in an answer: by itself, or where it does so nowhere, as a part of something else; not in these lines. */
function placeOf(
  answer: string,
  value: string,
  not: ReadonlySet<string> = noLines,
  ends: readonly (readonly [before: string, after: string])[] = standing,
): { readonly line: string; readonly at: number } | null {
  const lines = answer
    .replace(/\r/g, '')
    .split('\n')
    .filter((line) => !not.has(line));
  for (const [before, after] of ends) {
    const stands = new RegExp(`${before}${escaped(value)}${after}`);
    for (const line of lines) {
      const at = line.search(stands);
      if (at >= 0) return { line, at };
    }
  }
  return null;
}

const noLines: ReadonlySet<string> = new Set();
/** By itself; and as a part of something else. */
const standing = [
  ['(?<![^\\s=:,;"\'(\\[])', '(?![^\\s,;:"\')\\]])'],
  ['(?<![A-Za-z0-9.])', '(?![A-Za-z0-9]|\\.\\d)'],
] as const;

/** A number of four digits or more, a version or an address, a time, a digest: another day it reads otherwise. A short number may be that of a slot. */
const isOfToday = (word: string): boolean => /\d{4}|\d\.\d|\d:\d\d/.test(word) || (/^[0-9a-f]{8,}\W?$/i.test(word) && /\d/.test(word));

/** Where each value was found: in which answer, and in which line of it. */
type Found = ReadonlyMap<string, { readonly at: number; readonly line: string }>;

/** Two values that read alike stand in two places, as far as there are so many: what runs, and what is started next. */
function placesOf(talk: readonly Exchange[], finds: Readonly<Record<string, string>>): Found {
  const found = new Map<string, { at: number; line: string }>();
  for (const [key, value] of Object.entries(finds)) {
    const alike = [...found].flatMap(([other, place]) => (finds[other] === value ? [place] : []));
    const lookFor = (taken: typeof alike): { at: number; line: string } | null => {
      // A whole word in a later answer is more likely meant than a part of a word in an earlier one.
      for (const ends of standing)
        for (const [at, { answer }] of talk.entries()) {
          const place = placeOf(answer, value, new Set(taken.flatMap((t) => (t.at === at ? [t.line] : []))), [ends]);
          if (place !== null) return { at, line: place.line };
        }
      return null;
    };
    const place = lookFor(alike) ?? lookFor([]);
    if (place !== null) found.set(key, place);
  }
  return found;
}

/** The last part of a long line before a value: the rest of such a line often varies. */
const nearest = (before: string): string =>
  before.length <= longestBefore ? before : before.slice(before.indexOf(' ', before.length - longestBefore) + 1);
const longestBefore = 120;

/** The pattern that finds a value where it stood: after what was before it in its line. */
export function captureOf(answer: string, name: string, value: string): string | null {
  const place = placeOf(answer, value);
  if (place !== null) {
    const { line, at } = place;
    const loose = (text: string): string =>
      text
        .split(/[ \t]+/)
        // What has the value in it is another as soon as the value is; so is what counts, dates or names something else.
        .map((word) => (word.includes(value) || isOfToday(word) ? '\\S+' : escaped(word)))
        .join('[ \\t]+');
    const [before, after] = [nearest(line.slice(0, at)), line.slice(at + value.length)];
    const start = before.length < at ? '' : '^';
    const isLast = after.trim() === '';
    // What is glued to it ends it; a word ends where the next blank is.
    const hasBlanks = /\s/.test(value);
    if (!isLast && !/^\s/.test(after)) return `${start}${loose(before)}(?P<${name}>[^${hasBlanks ? '' : '\\s'}${escaped(after[0]!)}]+)`;
    if (hasBlanks) return `${start}${loose(before)}(?P<${name}>.*\\S)${isLast ? '[ \\t]*$' : loose(after)}`;
    return `${start}${loose(before)}(?P<${name}>\\S+)`;
  }
  return null;
}

/** What was typed, with what Barrow gives in the place of its values. */
function templated(text: string, given: Readonly<Record<string, string>>): string {
  const plain = text.replaceAll('${', '$${');
  return Object.entries(given)
    .filter(([, value]) => value.length > 1)
    .sort(([, a], [, b]) => b.length - a.length)
    .reduce((now, [key, value]) => now.replaceAll(value.replaceAll('${', '$${'), () => `\${${key}}`), plain);
}

/** How a device that says no begins: up to the sign after its first words, else its first words. */
export function refusalOf(after: string, answer: string): string | null {
  const lines = answer.replace(/\r/g, '').split('\n');
  const line = lines.find((l) => l.trim() !== '' && !l.trimEnd().endsWith(after));
  if (line === undefined) return null;
  const [signed] = /^.{1,24}?[:!?]( |$)/.exec(line) ?? [];
  const words = line.trimEnd().split(' ');
  const begins = signed ?? words.slice(0, words[0]!.length < 3 ? 2 : 1).join(' ');
  return `^${escaped(begins)}`;
}

/** The same pattern is written once, the first cause with it. */
function failsOf(refusals: Conversation['refusals']): { when: string; cause: string }[] {
  const found = new Map<string, string>();
  for (const { after, answer, cause } of refusals) {
    const when = refusalOf(after, answer);
    if (when !== null && !found.has(when)) found.set(when, cause);
  }
  return [...found].map(([when, cause]) => ({ when, cause }));
}

/** The procedure that does what a person did, and finds what stood in the answers. */
export function proposed(
  conversation: Conversation,
  prompt: RegExp | null,
): {
  readonly do: Written[];
  readonly gives?: Record<string, string>;
  readonly unfound: string[];
  readonly places: Readonly<Record<string, string>>;
} {
  const { talk, finds, takes = {}, refusals } = conversation;
  const wanted = { ...takes, ...finds };
  const places = placesOf(talk, wanted);
  const captures = (at: number): string[] =>
    [...places].flatMap(([key, place]) => (place.at === at ? (captureOf(place.line, key, wanted[key]!) ?? []) : []));
  /** What Barrow gives, and what an answer before gave. */
  const knownAt = (at: number): Readonly<Record<string, string>> => ({
    ...conversation.given,
    ...Object.fromEntries(Object.entries(takes).filter(([key]) => (places.get(key)?.at ?? at) < at)),
  });
  const fails = refusals.length === 0 ? {} : { fails: failsOf(refusals) };
  const stepOf = (e: Exchange, at: number): Written => {
    const given = knownAt(at);
    const found = captures(at);
    const capture = found.length === 0 ? {} : { capture: found };
    if ('ask' in e) {
      const [method, path] = e.ask.split(' ') as [string, string];
      const headers =
        e.headers === undefined ? {} : { headers: Object.fromEntries(Object.entries(e.headers).map(([k, v]) => [k, templated(v, given)])) };
      if (method === 'GET') return { get: templated(path, given), ...headers, ...capture, ...fails };
      const { type = 'text/plain' } = requestIn(`${e.ask} ${e.body ?? ''}`) ?? {};
      const typed = type === 'text/plain' ? {} : { type };
      const body = e.body === undefined ? {} : { body: templated(e.body, given) };
      return { request: templated(path, given), method, ...typed, ...headers, ...body, ...capture, ...fails };
    }
    const end = lastLine(e.answer);
    const waits = e.ends || prompt === null || end === '' || prompt.test(e.answer.replace(/\r/g, ''));
    return {
      say: templated(e.say, given),
      ...(waits ? {} : { until: `${escaped(end).replace(/ +$/, ' *')}$` }),
      ...(e.ends ? { endsSession: true } : {}),
      ...capture,
      ...fails,
    };
  };
  const steps = talk.map(stepOf);
  // Settings are told whole: all that came last.
  if (conversation.procedure === 'configuration' && places.size === 0) {
    const last = steps.at(-1)!;
    return {
      do: [...steps.slice(0, -1), { ...last, keep: 'text' }],
      gives: { text: '${text}' },
      unfound: Object.keys(wanted),
      places: {},
    };
  }
  const told = Object.keys(finds).filter((key) => places.has(key));
  return {
    do: steps,
    ...(told.length === 0 ? {} : { gives: Object.fromEntries(told.map((k) => [k, `\${${k}}`])) }),
    unfound: Object.keys(wanted).filter((key) => !places.has(key)),
    places: Object.fromEntries([...places].map(([key, { line }]) => [key, line.trim()])),
  };
}

/** What a family of one model with one hardware revision says of each of its devices, whatever that tells. */
function onlyModel(document: Document): Record<string, string> {
  const { models } = document.toJS() as { models?: { model?: unknown; variant?: unknown; revisions?: unknown[] }[] };
  const [one, ...others] = Array.isArray(models) ? models : [];
  if (!one || others.length > 0 || typeof one.model !== 'string' || one.revisions?.length !== 1) return {};
  const variant = typeof one.variant === 'string' ? one.variant : '';
  return { model: one.model, hardwareRevision: String(one.revisions[0]), variant };
}

/** A family file into which a procedure is written as it was recorded; the rest of it, its comments too, stays as it is. */
export function withProcedure(
  text: string,
  conversation: Conversation,
): {
  readonly text: string;
  readonly replaced: boolean;
  readonly unfound: readonly string[];
  /** The line in which each value was found. */
  readonly places: Readonly<Record<string, string>>;
  readonly prompt: string | null;
} {
  const document: Document = parseDocument(text);
  const known: unknown = document.getIn(['shell', 'prompt']);
  const saysSomething = conversation.talk.some((e) => 'say' in e);
  const prompt = typeof known === 'string' ? known : saysSomething ? promptOf(conversation) : null;
  const { unfound, places, ...found } = proposed(conversation, prompt === null ? null : new RegExp(prompt.replaceAll('(?P<', '(?<')));
  const procedure = conversation.procedure === 'record' ? { ...found, gives: { ...onlyModel(document), ...found.gives } } : found;
  if (known === undefined && prompt !== null) document.set('shell', document.createNode({ prompt, limit: '60 s' }));
  const at: [string, ProcedureName] = ['procedures', conversation.procedure];
  const replaced = document.hasIn(at);
  if (!isMap(document.get('procedures'))) document.set('procedures', document.createNode({}));
  document.setIn(at, document.createNode(procedure));
  // A draft names what is missing; this one is not any more.
  const written = document.toString({ lineWidth: 0 }).replace(new RegExp(`^#   ${conversation.procedure} .*\n`, 'm'), '');
  return { text: written, replaced, unfound, places, prompt };
}

/** What a file says is secret in settings, as far as it can be read: patterns. */
export function secretsIn(text: string): string[] {
  const found: unknown = (parseDocument(text).toJS() as { configuration?: { secrets?: unknown } } | null)?.configuration?.secrets;
  return Array.isArray(found) ? found.filter((source): source is string => typeof source === 'string' && canBeRead(source)) : [];
}

function canBeRead(source: string): boolean {
  try {
    pattern(source);
    return true;
  } catch {
    return false;
  }
}

/** Whether a file has a procedure of this name, well or badly written. */
export const hasProcedure = (text: string, name: ProcedureName): boolean => parseDocument(text).hasIn(['procedures', name]);
