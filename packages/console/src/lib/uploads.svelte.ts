import { checksumsFor, groupFiles, isNoteName, readChecksums, readNote, type Checksum, type ImageNote, type Taken } from '@barrow/core';
import { client, failureOf, type Failure } from './session.svelte.js';

/** One release on its way in. */
export interface Going {
  readonly label: string;
  readonly bytes: number;
  sent: number;
  state: 'waiting' | 'sending' | 'checking' | 'taken' | 'refused';
  taken: Taken | null;
  failure: Failure | null;
}

const pieceBytes = 8 * 1024 * 1024;

/** What was dropped on the page, newest first. */
export const uploads = $state<{ list: Going[] }>({ list: [] });

async function noteOf(file: File): Promise<ImageNote | null> {
  try {
    return readNote(await file.text());
  } catch {
    // The service says what is wrong with it.
    return null;
  }
}

function checksumsOf(text: string): Checksum[] {
  try {
    return readChecksums(text);
  } catch {
    return [];
  }
}

/** Sends one file piece by piece; one that broke off goes on where it ended. */
async function send(file: File, onSent: (bytes: number) => void): Promise<string> {
  const key = `${file.name}|${file.size}|${file.lastModified}`;
  let upload = await client().beginUpload({ file: file.name, bytes: file.size, key });
  while (upload.received < file.size) {
    upload = await client().sendUpload(upload.id, upload.received, file.slice(upload.received, upload.received + pieceBytes));
    onSent(upload.received);
  }
  return upload.id;
}

/** Takes dropped files in: parted into releases by their notes, so that one that is refused keeps no other out. */
export async function takeIn(files: readonly File[]): Promise<void> {
  const byName = new Map(files.map((f) => [f.name, f]));
  const notes = new Map<string, ImageNote | null>();
  for (const [name, file] of byName) if (isNoteName(name)) notes.set(name, await noteOf(file));
  const { groups, checksumFiles } = groupFiles([...byName.keys()], (name) => notes.get(name) ?? null);
  const sums: Checksum[] = [];
  for (const name of checksumFiles) sums.push(...checksumsOf(await byName.get(name)!.text()));
  const going = groups.map((names): [readonly string[], Going] => {
    const own = names.filter((n) => !isNoteName(n));
    const bytes = names.reduce((sum, n) => sum + byName.get(n)!.size, 0);
    const entry = $state<Going>({
      label: (own.length > 0 ? own : names).join(', '),
      bytes,
      sent: 0,
      state: 'waiting',
      taken: null,
      failure: null,
    });
    return [names, entry];
  });
  uploads.list = [...going.map(([, g]) => g), ...uploads.list].slice(0, 200);
  for (const [names, entry] of going) await takeOne(names, entry, byName, sums);
}

async function takeOne(
  names: readonly string[],
  entry: Going,
  byName: ReadonlyMap<string, File>,
  sums: readonly Checksum[],
): Promise<void> {
  entry.state = 'sending';
  try {
    const ids: string[] = [];
    let before = 0;
    for (const name of names) {
      const file = byName.get(name)!;
      ids.push(await send(file, (sent) => (entry.sent = before + sent)));
      before += file.size;
    }
    entry.state = 'checking';
    entry.taken = await client().take({ uploads: ids, checksums: checksumsFor(sums, new Set(names)) || null });
    entry.state = 'taken';
  } catch (error) {
    entry.failure = failureOf(error);
    entry.state = 'refused';
  }
}
