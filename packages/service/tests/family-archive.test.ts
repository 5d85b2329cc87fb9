import { buffer } from 'node:stream/consumers';
import tar from 'tar-stream';
import { describe, expect, it } from 'vitest';
import { parseFamily } from '@barrow/families';
import { packFamily, playAll, unpackFamily } from '../dist/devices/family-archive.js';

const made = async (files: Record<string, string>): Promise<Buffer> => {
  const pack = tar.pack();
  for (const [name, text] of Object.entries(files)) pack.entry(name.endsWith('/') ? { name, type: 'directory' } : { name }, text);
  pack.finalize();
  return buffer(pack as never);
};
const file = `family: moor-gate
title: Moor gate
maker: Moor
kind: switch
models: [{ model: MG-1, revisions: ['1'] }]
versions: { patterns: ['(?P<n>\\d+)'], order: [{ part: n }], write: '{n}' }
shell: { prompt: '> $', limit: 20 s }
procedures:
  record:
    do: [{ say: tell, capture: ['runs (?P<firmware>\\d+) as (?P<serial>\\w+)'] }]
    gives: { firmware: '\${firmware}', serial: '\${serial}' }
`;
const said = (answer: string, procedure = 'record'): string =>
  `procedure: ${procedure}\ndevice: gate-1\nrecorded: 2026-11-27T10:00:00Z\ngreeting: "> "\ntalk:\n  - say: tell\n    answer: "${answer}"\n`;
const asSaid = said('runs 7 as S1\\n> ');

describe('a family as one archive', () => {
  it('holds its file and what was said beside it, and is read as it was written', async () => {
    const archive = await buffer(packFamily('moor-gate', file, new Map([['record', asSaid]])));
    expect(await unpackFamily(archive)).toEqual({ text: file, conversations: new Map([['record', asSaid]]) });
  });

  it('may be made by hand from a folder, as any tar is', async () => {
    const archive = await made({
      './': '',
      './gate.yaml': file,
      './gate.conversations/': '',
      './gate.conversations/record.yaml': asSaid,
    });
    expect((await unpackFamily(archive)).conversations.get('record')).toBe(asSaid);
    expect(
      (await unpackFamily(await made({ 'gate (2)+.yml': file, 'gate (2)+.conversations/record.yml': asSaid }))).conversations.size,
    ).toBe(1);
  });

  it.each<[string, Record<string, string>, string]>([
    ['no family file', { 'gate.conversations/record.yaml': asSaid }, 'No family file is in it.'],
    ['two', { 'a.yaml': file, 'b.yaml': file }, 'Several family files are in it: a.yaml, b.yaml.'],
    ['what belongs to neither', { 'a.yaml': file, 'notes.txt': 'x' }, 'notes.txt is in it, and neither a.yaml nor a conversation'],
    ['a conversation of another file', { 'a.yaml': file, 'b.conversations/record.yaml': asSaid }, 'b.conversations/record.yaml is in it'],
    ['a name that leads out', { 'a.yaml': file, 'a.conversations/../../record.yaml': asSaid }, 'is in it, and neither'],
    ['more than anybody says', Object.fromEntries(Array.from({ length: 101 }, (_, i) => [`f${i}.yaml`, ''])), 'more than 100 files'],
  ])('is refused with %s', async (_what, files, why) => {
    await expect(made(files).then(unpackFamily)).rejects.toMatchObject({ status: 422, message: expect.stringContaining(why) as string });
  });

  it('is refused when it is cut off, or none', async () => {
    const archive = await buffer(packFamily('moor-gate', file, new Map()));
    for (const broken of [archive.subarray(0, 700), Buffer.from('no archive at all, and long enough to be looked at '.repeat(20))])
      await expect(unpackFamily(broken)).rejects.toMatchObject({ status: 422 });
  });

  it('is played, and what is not as it was recorded is told', async () => {
    const family = parseFamily(file, 'gate.yaml');
    expect(await playAll(family, new Map([['record', asSaid]]))).toEqual({ remarks: [], clean: new Map([['record', asSaid]]) });
    const {
      remarks: [remark],
    } = await playAll(family, new Map([['record', said('is 7, that is S1\\n> ')]]));
    expect(remark).toMatch(/^record is not as it was recorded: /);
    // What the file says is secret is not kept, whoever recorded it before that was said.
    const knows = parseFamily(`${file}configuration: { ignoreLines: [], secrets: ['^word (?P<secret>.+)$'] }\n`, 'gate.yaml');
    const { clean } = await playAll(knows, new Map([['record', said('word low-tide\\nruns 7 as S1\\n> ')]]));
    expect(clean.get('record')).not.toContain('low-tide');
    expect(clean.get('record')).toContain('word ‹hidden›');
    await expect(playAll(family, new Map([['record', said('', 'reboot')]]))).rejects.toThrow('record.yaml is a conversation of reboot');
    await expect(playAll(family, new Map([['record', 'tolk: []']]))).rejects.toThrow('is talk meant?');
  });
});
