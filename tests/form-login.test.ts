import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { FormPage } from './support/form-page.js';
import { discover } from './support/scene.js';
import { barrow, folder, serve, type Served } from './support/service.js';

const family = `family: sounder
title: Sounder
maker: Sounder
kind: other
models: [{ model: SD-1, revisions: ['-'] }]
recognise: [{ http: { server: '^sounder-pages' } }]
versions: { patterns: ['(?P<major>\\d+)\\.(?P<minor>\\d+)'], order: [{ part: major }, { part: minor }], write: '{major}.{minor}' }
procedures: {}
`;

describe('a device whose login is a form', () => {
  const dir = folder();
  const data = join(dir.path, 'data');
  const login = { user: 'harbour', word: 'deep & wide/7' };
  const page = new FormPage('127.192.1.1', 8292, login, '1.4');
  const file = join(dir.path, 'sounder.yaml');
  const kept = join(dir.path, 'sounder.conversations', 'record.yaml');
  let served: Served;
  const cli = (args: readonly string[], input = '') => barrow(args, { data, input });
  const name = async (): Promise<string> => (await served.client.deviceNames())[0]!.name;
  beforeAll(async () => {
    await page.start();
    served = await serve(data, { scale: 10 });
    writeFileSync(file, family);
    const { client } = served;
    await client.addCredential({ name: 'pages', kind: 'http-basic', user: login.user, secret: login.word });
    await client.addNetwork({ name: 'odd', site: 'quay-house', ranges: [page.address], credentials: ['pages'], httpPort: page.port });
    await discover(client, ['odd']);
  });
  afterAll(async () => {
    await served?.kill();
    await page.stop();
    dir.remove();
  });

  it('gets no password before a person approves it', async () => {
    const refused = await cli(
      ['family', 'record', file, 'record', await name(), '--over', 'web'],
      'POST /login user=${pageUser}&word=${pageWord}\n',
    );
    expect(refused.code, refused.out + refused.err).not.toBe(0);
    expect(page.logins).toEqual([]);
  });

  it('is recorded with its login, and the word is kept nowhere', async () => {
    expect((await cli(['device', 'approve', await name()])).code).toBe(0);
    // A person types the login itself; the token changes with every page, so that it is taken out of the page.
    const opened = await served.client.record(await name(), 'web');
    const form = await served.client.sayIn(opened.id, 'GET /login');
    const token = /value="(\w+)"/.exec(form.answer)![1]!;
    const typed = `POST /login token=${token}&user=${login.user}&word=${encodeURIComponent(login.word)}`;
    const done = await served.client.sayIn(opened.id, typed, { 'X-Asked-By': 'pages' });
    expect(done).toMatchObject({ status: 200, answer: expect.stringContaining('Firmware 1.4') as string });
    expect(done.said).toBe(`POST /login token=${token}&user=\${pageUser}&word=\${pageWord}`);
    await served.client.endRecording(opened.id);
  });

  it('is taught by the recorder: hidden field, header, cookie and redirect', async () => {
    page.fixToken('5f2e9a');
    const said = [
      'GET /login',
      ':take token 5f2e9a',
      ':header X-Asked-By pages',
      `POST /login token=5f2e9a&user=${login.user}&word=${encodeURIComponent(login.word)}`,
      ':is firmware 1.4',
      ':is serial SD-0001',
    ];
    const done = await cli(['family', 'record', file, 'record', await name(), '--over', 'web'], `${said.join('\n')}\n`);
    expect(done, done.err).toMatchObject({ code: 0, out: expect.stringContaining('→ firmware: 1.4') as string });
    page.fixToken(null);
    const text = readFileSync(file, 'utf8');
    for (const one of [text, readFileSync(kept, 'utf8'), done.out])
      for (const word of [login.word, encodeURIComponent(login.word)]) expect(one).not.toContain(word);
    expect(text).toContain('body: "token=${token}&user=${pageUser}&word=${pageWord}"');
    expect(text).toContain('X-Asked-By: pages');
    expect(await cli(['family', 'check', file])).toMatchObject({ code: 0 });
    expect(await cli(['family', 'try', file])).toMatchObject({ code: 0 });
  });

  it('is read by what was recorded, with another token and in a new session', async () => {
    const tried = await cli(['family', 'try', file, '--against', await name(), '--may-change']);
    expect(tried, tried.err).toMatchObject({ code: 0, out: expect.stringContaining('1.4') as string });
    expect((await cli(['family', 'add', file])).code).toBe(0);
    expect((await cli(['network', 'trust', 'odd'])).code).toBe(0);
    await discover(served.client, ['odd']);
    expect(await served.client.device(await name())).toMatchObject({ family: 'sounder', firmware: '1.4', serial: 'SD-0001' });
    const [last] = page.logins.slice(-1);
    expect(new URLSearchParams(last).get('word')).toBe(login.word);
  });

  it('hides a password of another credential that is typed, and says that the step cannot be repeated', async () => {
    await served.client.addCredential({ name: 'other', kind: 'ssh-password', user: 'x', secret: 'anchor-99' });
    const other = join(dir.path, 'other.yaml');
    writeFileSync(other, family.replace('family: sounder', 'family: other'));
    const done = await cli(['family', 'record', other, 'record', await name(), '--over', 'web'], 'POST /login pin=anchor-99\n');
    const header = await served.client.record(await name(), 'web');
    await expect(served.client.sayIn(header.id, 'GET /login', { 'X-Key': 'anchor-99' })).rejects.toMatchObject({
      problem: { code: 'header-secret' },
    });
    await served.client.endRecording(header.id);
    expect(done.out).toContain('Barrow replaced a password that you typed');
    for (const one of [readFileSync(other, 'utf8'), readFileSync(join(dir.path, 'other.conversations', 'record.yaml'), 'utf8'), done.out])
      expect(one).not.toContain('anchor-99');
  });
});
