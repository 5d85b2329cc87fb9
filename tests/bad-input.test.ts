import { createServer, type Server } from 'node:net';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import Sqlite from 'libsql';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { barrow, barrowProcess, folder } from './support/service.js';
import { prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

/** Every error has three parts: what happened, why, and what to do. */
function threeParts(err: string): void {
  expect(err).toMatch(/^✕ .+\n {2}Why: .+\n {2}What to do: .+\n$/);
}

describe('bad input, with a service', () => {
  let scene: Scene;
  const dir = folder();
  const file = (name: string, content: string | Buffer) => {
    const path = join(dir.path, name);
    writeFileSync(path, content);
    return path;
  };
  beforeAll(async () => {
    scene = await setScene({ network: 55, only: ['curlew-sw-1', 'sandpiper-sw-1'] });
    await prepare(scene);
  });
  afterAll(async () => {
    await scene?.end();
    dir.remove();
  });

  it.each([
    ['help', ['rollout', '--help'], ''],
    ['a list', ['device', 'list'], ''],
    ['a refusal', ['device', 'show', 'nobody', '--json'], ''],
    ['what was typed', ['device', 'import', '-', '--form', 'csv', '--dry-run'], 'name,site\nquay-sw-9,quay-house\n'],
    ['what was not understood', ['rollout', 'plan', '--soak', 'long'], ''],
  ])('is the same program in a process of its own: %s', async (_, args, input) => {
    const [here, there] = [await barrow(args, { data: scene.data, input }), await barrowProcess(args, { data: scene.data, input })];
    expect({ ...there, json: null }).toEqual({ ...here, json: null });
    expect(here.out + here.err).not.toBe('');
  });

  it.each([
    ['an unknown device', ['device', 'show', 'nobody'], 2, '"nobody" is not known'],
    ['an unknown rollout', ['rollout', 'show', 'r-none'], 2, '"r-none" is not known'],
    ['an unknown network', ['discover', 'elsewhere'], 2, 'nothing else is ever scanned'],
    ['a malformed range', ['network', 'add', 'x', '--site', 'x', '--range', '127.40.1.300'], 2, '"127.40.1.300" is not an IPv4 address'],
    ['a range that is too large', ['network', 'add', 'x', '--site', 'x', '--range', '127.0.0.0/8'], 2, '1048576 is the most'],
    [
      'a network with an unknown credential',
      ['network', 'add', 'x', '--site', 'x', '--range', '127.40.1.1', '--credential', 'none'],
      2,
      '"none" is not known',
    ],
    [
      'a name that is taken',
      ['network', 'add', 'curlew', '--site', 'x', '--range', '127.40.1.1'],
      4,
      'There is a network "curlew" already',
    ],
    ['a missing file', ['image', 'add', '/nowhere/x.simg'], 2, 'there is no such file'],
    ['a folder without images', ['image', 'add', 'docs'], 2, 'holds no images'],
    ['an unreadable target', ['target', 'set', 'tarnbrook-access', 'newest'], 2, 'cannot read the version "newest"'],
    ['a target for an unknown family', ['target', 'set', 'toasters', '1.0.0'], 2, 'The families are fennwave-ap, '],
    ['a soak that is no span', ['rollout', 'plan', '--soak', 'long'], 2, '"long" is no span of time'],
    ['a limit that is no number', ['rollout', 'plan', '--at-once', 'many'], 2, '--at-once takes a whole number'],
    ['a limit of nothing', ['rollout', 'plan', '--at-once', '0'], 2, 'Why: --at-once is at least 1'],
    ['a limit beyond all', ['rollout', 'plan', '--at-once', '999999999999999'], 2, 'Why: --at-once is at most 1000'],
    ['a reason for no risk', ['rollout', 'start', 'latest', '--reason', 'agreed'], 2, 'belongs to --accept'],
    ['a window of no times', ['rollout', 'plan', '--between', '25:00-26:00'], 2, '"25:00-26:00" is no window'],
    ['a site that nothing is at', ['rollout', 'plan', '--site', 'eelgat'], 2, '"eelgat" is not known'],
    ['a list of a kind that there is not', ['device', 'list', '--kind', 'swich'], 2, 'not "swich"; is switch meant?'],
    ['a list of a site that there is not', ['device', 'list', '--site', 'curlow'], 2, 'Is curlew meant?'],
    ['a site with a slip of the pen', ['site', 'set', 'curlow', '--link', '64'], 2, 'Is curlew meant?'],
    ['an empty word', ['device', 'show', ''], 2, 'One of its words is empty'],
    ['a device with a slip of the pen', ['device', 'show', 'curlew-sw1'], 2, 'Is curlew-sw-1 meant?'],
    [
      'a name that another device has',
      ['device', 'set', 'sandpiper-sw-1', '--name', 'curlew-sw-1'],
      4,
      '"curlew-sw-1" is the name of the device d-',
    ],
    ['a range where no device is', ['network', 'add', 'x', '--site', 'x', '--range', '169.254.169.254'], 2, 'where no device is'],
    [
      'a store address that is more than one',
      ['network', 'add', 'x', '--site', 'x', '--range', '127.40.1.1', '--store-address', '127.0.0.1\nrestart'],
      2,
      'an address or a host name',
    ],
    ['a report into a folder that is not there', ['report', 'latest', '--format', 'html', '--output', '/nonexistent/x.html'], 2, ''],
    ['a report in an unknown format', ['report', 'latest', '--format', 'docx'], 2, ''],
    ['a wrong token', ['device', 'list', '--token', 'barrow_guess'], 4, 'The token is not known to this service'],
  ])('%s', async (_, args, code, why) => {
    const ran = await barrow(args, { data: scene.data });
    threeParts(ran.err);
    expect(ran.err).toContain(why);
    expect(ran.code).toBe(code);
    expect(ran.out).toBe('');
  });

  it.each([
    ['an empty file', '', 'x.simg: the file is empty'],
    ['an archive that is none', 'PK\u0003\u0004 something', 'Either not a zip file, or file is truncated'],
    ['a web page instead of an image', '<!doctype html><title>not found</title>', 'the file is a web page, and no image'],
    ['a file cut in its header', 'SIMG1\n\0\0', 'ends inside its header'],
  ])('%s is refused, and nothing of it is kept', async (_, content, why) => {
    const ran = await barrow(['image', 'add', file('x.simg', content)], { data: scene.data });
    expect(ran.code).toBe(4);
    expect(ran.err).toContain(why);
    expect((await scene.served.client.images()).length).toBe(4);
    expect((await scene.served.client.verifyImages()).every((i) => i.sound)).toBe(true);
  });

  it('with --json is the one object on standard output, with a stable code', async () => {
    const ran = await barrow(['device', 'show', 'nobody', '--json'], { data: scene.data });
    expect(ran.err).toBe('');
    expect(JSON.parse(ran.out)).toEqual({
      error: { code: 'device-unknown', what: expect.any(String), why: expect.any(String), next: expect.any(String) },
    });
  });

  it('a list that a spreadsheet saved as UTF-16 is refused in words', async () => {
    const path = file('utf16.csv', Buffer.from('name,site\nquay-sw-9,quay-house\n', 'utf16le'));
    const ran = await barrow(['device', 'import', path], { data: scene.data });
    threeParts(ran.err);
    expect([ran.code, ran.err]).toEqual([2, expect.stringContaining('it is not UTF-8 text') as string]);
  });

  it('a plan that nobody started is not followed, and a gate that asks for no approval gets none', async () => {
    const run = (...args: string[]) => barrow(args, { data: scene.data });
    const { id } = await scene.served.client.plan({ devices: ['sandpiper-sw-1'], first: 0, name: 'not started' });
    const followed = await run('rollout', 'follow', id);
    expect([followed.code, followed.err]).toEqual([4, expect.stringContaining(`barrow rollout start ${id} --follow`) as string]);
    expect(followed.out).toBe('');
    await expect(scene.served.client.say(id, 'approve', { wave: 0 })).rejects.toMatchObject({ problem: { code: 'approval-not-asked' } });
    await scene.served.client.discardRollout(id);
    expect((await run('transfer', 'list', '--state', 'refused')).out).toBe(
      'No transfer fits this choice. `barrow transfer list` shows all of them.\n',
    );
  });

  it('a second start of one rollout, and a device in two rollouts, are refused', async () => {
    const { client } = scene.served;
    // It waits for a person after the first device, however slow we are here.
    const devices = ['curlew-sw-1', 'sandpiper-sw-1'];
    const first = await client.plan({ devices, first: 1, approval: true, soakSeconds: 0 });
    const second = await client.plan({ devices, first: 0 });
    const start = (id: string) => barrow(['rollout', 'start', id], { data: scene.data });
    expect((await start(first.id)).code).toBe(0);
    const again = await start(first.id);
    expect([again.code, again.err]).toEqual([4, expect.stringContaining('The rollout is running') as string]);
    const other = await start(second.id);
    expect([other.code, other.err]).toEqual([4, expect.stringContaining(`(${first.id})`) as string]);
    await rolloutUntil(client, first.id, (r) => r.waves[0]!.phase === 'soaking');
    await client.say(first.id, 'approve', { wave: 0 });
    const followed = await barrow(['rollout', 'follow', first.id], { data: scene.data });
    expect(followed.code).toBe(0);
    expect(scene.fleet.device('curlew-sw-1').counters.activations).toBe(1);
  });

  it('an unknown command or option is wrong use', async () => {
    for (const args of [['frobnicate'], ['device', 'list', '--colour'], ['rollout', 'show']])
      expect((await barrow(args, { data: scene.data })).code, args.join(' ')).toBe(2);
  });
});

describe('bad input, without a service', () => {
  const dir = folder();
  afterAll(() => dir.remove());

  it('no service is told with exit code 3', async () => {
    const ran = await barrow(['device', 'list', '--url', 'http://127.0.0.1:9', '--token', 'x']);
    threeParts(ran.err);
    expect(ran.err).toContain('The service cannot be reached');
    expect(ran.code).toBe(3);
  });

  it('no token is told with exit code 4', async () => {
    const ran = await barrow(['device', 'list']);
    threeParts(ran.err);
    expect(ran.code).toBe(4);
  });

  it('a port in use is told, and nothing is left running', async () => {
    const server: Server = createServer();
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as { port: number };
    const ran = await barrow([
      'serve',
      '--data',
      join(dir.path, 'a'),
      '--listen',
      `127.0.0.1:${port}`,
      '--tftp-listen',
      '127.0.0.1:0',
      '--log',
      'silent',
    ]);
    server.close();
    threeParts(ran.err);
    expect(ran.err).toContain('another program has this port');
    expect(ran.code).toBe(1);
  });

  it('a database from a newer version is refused and not touched', async () => {
    const data = join(dir.path, 'newer');
    mkdirSync(data);
    const db = new Sqlite(join(data, 'barrow.db'));
    db.exec('create table later (x integer); pragma user_version = 999');
    db.close();
    const ran = await barrow([
      'serve',
      '--data',
      data,
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
      '--log',
      'silent',
    ]);
    threeParts(ran.err);
    expect(ran.err).toContain('has layout 999');
    expect(ran.code).toBe(4);
    const after = new Sqlite(join(data, 'barrow.db'));
    expect(after.prepare("select name from sqlite_master where type = 'table'").all()).toEqual([{ name: 'later' }]);
    after.close();
  });

  it('a folder that another service has open is refused, until that one has ended, here with the demo that had started it', async () => {
    const { serve } = await import('./support/service.js');
    const data = join(dir.path, 'held');
    const first = await serve(data, { channel: true });
    const ran = await barrow([
      'serve',
      '--data',
      data,
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
      '--log',
      'silent',
    ]);
    expect(ran.err).toContain('Another Barrow service has');
    expect(ran.code).toBe(4);
    first.orphan();
    expect(await first.ended).toBe(0);
    expect(await (await serve(data)).stop()).toBe(0);
  });

  it('a faulty family file keeps the service from starting, and is told with its line', async () => {
    const families = join(dir.path, 'families');
    mkdirSync(families);
    writeFileSync(join(families, 'odd.yaml'), 'family: odd\ntitle: Odd\nkind: toaster\n');
    const ran = await barrow([
      'serve',
      '--data',
      join(dir.path, 'b'),
      '--families',
      families,
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
    ]);
    expect(ran.code).toBe(4);
    expect(ran.err).toContain('odd.yaml:3:7: kind: ');
    const checked = await barrow(['family', 'check', join(families, 'odd.yaml')]);
    expect(checked.code).toBe(1);
    const all = await barrow(['family', 'check', families]);
    expect([all.code, all.out]).toEqual([1, expect.stringContaining('odd.yaml:3:7: kind: ') as string]);
    expect(checked.out).toContain('odd.yaml:3:7: kind: ');
  });
});
