import { causes, closedObject, describeIssue, type CauseCode } from '@barrow/core';
import { parseDocument, stringify } from 'yaml';
import { z } from 'zod';
import { hideInLines } from '../secrets.js';
import { procedureNames, type ProcedureName } from '../schema/shape.js';

/** What was typed, and what came of it until the device waited again. */
const exchange = closedObject({
  say: z.string(),
  answer: z.string(),
  /** The device ended the session. */
  ends: z.literal(true).optional(),
});
/** A request to a page, and its answer. */
const request = closedObject({
  ask: z.string().regex(/^(GET|POST|PUT|DELETE) \/\S*$/, 'a request is a method and a path, e.g. GET /state'),
  body: z.string().optional(),
  headers: z.record(z.string(), z.string()).optional(),
  status: z.number().int(),
  answer: z.string(),
});

/** A procedure as a person did it by hand on a device: what stands in `NAME.conversations/PROCEDURE.yaml` beside a family file. */
export const conversationShape = closedObject({
  procedure: z.enum(procedureNames),
  /** Which device it was, and when (RFC 3339). */
  device: z.string(),
  recorded: z.string(),
  /** What was first on the screen. */
  greeting: z.string().default(''),
  talk: z.array(z.union([exchange, request])).min(1),
  /** Values that Barrow would have given, such as `imageFile`. */
  given: z.record(z.string(), z.string()).default({}),
  /** Values of an answer that later requests send again, such as a hidden field of a form. */
  takes: z.record(z.string(), z.string()).optional(),
  /** How the device says no: what was typed or asked, what came, and what that is called. */
  refusals: z
    .array(closedObject({ after: z.string(), answer: z.string(), cause: z.enum(causes.map((c) => c.code) as [CauseCode]) }))
    .default([]),
  /** What the procedure has to find in it. */
  finds: z.record(z.string(), z.string()).default({}),
});
export type Conversation = z.infer<typeof conversationShape>;
export type Exchange = Conversation['talk'][number];

/** A request as a person writes it: a method, a path, and after them what goes with it; null when it is none. */
export function requestIn(
  text: string,
): { readonly method: 'GET' | 'POST' | 'PUT' | 'DELETE'; readonly path: string; readonly body?: string; readonly type: string } | null {
  const [, method, path, body = ''] = /^(GET|POST|PUT|DELETE) (\/\S*)(?: (.+))?$/.exec(text.trim()) ?? [];
  if (method === undefined || (method === 'GET' && body !== '')) return null;
  const type = /^[[{]/.test(body) ? 'application/json' : /^[^\s=&]+=/.test(body) ? 'application/x-www-form-urlencoded' : 'text/plain';
  return { method: method as 'GET', path: path!, type, ...(body === '' ? {} : { body }) };
}

/** A file that is no conversation, with every reason. */
export class ConversationError extends Error {}

/** @throws ConversationError */
export function readConversation(text: string, file: string): Conversation {
  const document = parseDocument(text);
  const [error] = document.errors;
  if (error) throw new ConversationError(`${file}: ${error.message.split('\n')[0]!}`);
  let value: unknown;
  try {
    value = document.toJS({ maxAliasCount: 50 });
  } catch (failure) {
    throw new ConversationError(`${file}: ${(failure as Error).message}`);
  }
  const read = conversationShape.safeParse(value);
  if (read.success) return read.data;
  throw new ConversationError(
    read.error.issues.map((issue) => `${file}: ${issue.path.join('.')}: ${describeIssue(issue as never, value)}`).join('\n'),
  );
}

export const writeConversation = (conversation: Conversation): string =>
  stringify(
    Object.fromEntries(
      Object.entries(conversation).filter(([, v]) => v !== '' && !(typeof v === 'object' && Object.keys(v as object).length === 0)),
    ),
    { lineWidth: 0 },
  );

/** A conversation without what is secret in its lines; the same one when nothing is. */
export function concealed(conversation: Conversation, sources: readonly string[]): Conversation {
  const hide = (text: string): string => hideInLines(text, sources);
  const talk = conversation.talk.map((e) =>
    'say' in e
      ? { ...e, say: hide(e.say), answer: hide(e.answer) }
      : { ...e, answer: hide(e.answer), ...(e.body === undefined ? {} : { body: hide(e.body) }) },
  );
  const refusals = conversation.refusals.map((r) => ({ ...r, after: hide(r.after), answer: hide(r.answer) }));
  const clean = { ...conversation, greeting: hide(conversation.greeting), talk, refusals };
  return JSON.stringify(clean) === JSON.stringify(conversation) ? conversation : clean;
}

/** Where the conversations of a family stand: beside its file. */
export const conversationFolder = (familyFile: string): string => `${familyFile.replace(/\.ya?ml$/, '')}.conversations`;

/** Where the conversation of a procedure stands. */
export const conversationFile = (familyFile: string, procedure: ProcedureName): string =>
  `${conversationFolder(familyFile)}/${procedure}.yaml`;
