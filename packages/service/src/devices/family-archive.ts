import { PassThrough, Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import tar from 'tar-stream';
import {
  concealed,
  ConversationError,
  readConversation,
  tryProcedure,
  writeConversation,
  type Conversation,
  type Family,
} from '@barrow/families';
import { Refusal } from '../errors.js';

/** So large an archive is, and so many conversations are in one, at most. */
export const mostArchiveBytes = 8 * 1024 * 1024;
const mostMembers = 100;

/** What was said while a family was taught, by procedure, as it was written (YAML). */
export type Conversations = ReadonlyMap<string, string>;

const refuse = (why: string): Refusal =>
  new Refusal(
    422,
    'family-archive',
    'The archive was not taken',
    why,
    'It is a tar with NAME.yaml, and beside it NAME.conversations with a file for each procedure; `barrow family write NAME --archive FILE` makes one.',
  );

/** A family file with its conversations, as they stand beside each other in a folder: an ordinary tar (IEEE 1003.1 ustar). */
export function packFamily(family: string, text: string, conversations: Conversations): Readable {
  const pack = tar.pack();
  pack.entry({ name: `${family}.yaml` }, text);
  for (const [procedure, said] of conversations) pack.entry({ name: `${family}.conversations/${procedure}.yaml` }, said);
  pack.finalize();
  const out = new PassThrough();
  pipeline(pack, out).catch(() => undefined);
  return out;
}

/** @throws Refusal for what is no such archive */
export async function unpackFamily(archive: Buffer): Promise<{ readonly text: string; readonly conversations: Conversations }> {
  const extract = tar.extract();
  const read = async (): Promise<Map<string, string>> => {
    const members = new Map<string, string>();
    for await (const entry of extract) {
      const parts: Buffer[] = [];
      for await (const part of entry as AsyncIterable<Buffer>) parts.push(part);
      if (entry.header.type !== 'file') continue;
      if (members.size === mostMembers) throw refuse(`It has more than ${mostMembers} files.`);
      members.set(entry.header.name.replace(/^\.\//, ''), Buffer.concat(parts).toString('utf8'));
    }
    return members;
  };
  const [members] = await Promise.all([read(), pipeline(Readable.from([archive]), extract)]).catch((error: unknown) => {
    throw error instanceof Refusal ? error : refuse(`It cannot be read: ${(error as Error).message}.`);
  });
  const [file, ...more] = [...members.keys()].filter((name) => /^[^/]+\.ya?ml$/.test(name));
  if (file === undefined || more.length > 0)
    throw refuse(file === undefined ? 'No family file is in it.' : `Several family files are in it: ${[file, ...more].join(', ')}.`);
  const beside = `${file.replace(/\.ya?ml$/, '')}.conversations/`;
  const conversations = new Map<string, string>();
  for (const [name, text] of members) {
    if (name === file) continue;
    const [, procedure] = (name.startsWith(beside) ? /^([A-Za-z-]+)\.ya?ml$/.exec(name.slice(beside.length)) : null) ?? [];
    if (procedure === undefined) throw refuse(`${name} is in it, and neither ${file} nor a conversation beside it.`);
    conversations.set(procedure, text);
  }
  return { text: members.get(file)!, conversations };
}

/**
 * Reads conversations that came with a family file, and plays each.
 *
 * @returns what is not as it was recorded, and what of them may be kept: without what the file says is secret
 * @throws Refusal
 */
export async function playAll(
  family: Family,
  conversations: Conversations,
): Promise<{ readonly remarks: string[]; readonly clean: Conversations }> {
  const remarks: string[] = [];
  const clean = new Map<string, string>();
  for (const [procedure, text] of conversations) {
    let conversation: Conversation;
    try {
      conversation = readConversation(text, `${procedure}.yaml`);
    } catch (error) {
      if (error instanceof ConversationError) throw refuse(error.message);
      throw error;
    }
    if (conversation.procedure !== procedure) throw refuse(`${procedure}.yaml is a conversation of ${conversation.procedure}.`);
    const { differences } = await tryProcedure(family, conversation);
    const kept = concealed(conversation, family.configuration?.secrets ?? []);
    clean.set(procedure, kept === conversation ? text : writeConversation(kept));
    if (differences.length > 0) remarks.push(`${procedure} is not as it was recorded: ${differences[0]!}`);
  }
  return { remarks, clean };
}
