import { createHash, randomBytes } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import { copyFileSync, existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { basename, join } from 'node:path';
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest';
import { imageNoteSchema, type Carried, type Image, type ImageDetail, type Taken } from '@barrow/core';
import { shippedFamilies } from '@barrow/families';
import { libraryImages, makeImage, releaseFiles, writeScenarioLibrary, type Library } from '@barrow/standins';
import { barrow, folder, serve, type Served } from './support/service.js';

const dir = folder();
const data = join(dir.path, 'data');
let served: Served;
let library: Library;
const run = (args: string[]) => barrow(args, { data });
const json = async <T>(args: string[]): Promise<T> => {
  const ran = await run([...args, '--json']);
  expect(ran.err, args.join(' ')).toBe('');
  return ran.json<T>();
};
/** A folder of its own for the files of one test. */
const place = (): string => mkdtempSync(join(dir.path, 'files-'));
const put = (at: string, name: string, bytes: Buffer | string): string => {
  writeFileSync(join(at, name), bytes);
  return join(at, name);
};
const sha = (kind: string, bytes: Buffer): string => createHash(kind).update(bytes).digest('hex');
/** A sound file for switches that no other test has; its version says which. */
const sound = (version: string, over: Partial<Parameters<typeof makeImage>[0]> = {}): Buffer =>
  makeImage({ maker: 'Tarnbrook', models: ['TB-2408'], hardwareRevisions: ['A1'], version, payloadBytes: 20_000, ...over });

beforeAll(async () => {
  served = await serve(data);
  library = await writeScenarioLibrary(join(dir.path, 'library'));
});
afterAll(async () => {
  await served?.kill();
  dir.remove();
});

/** Every content has a row, every row its content, and nothing is left on the way in. */
async function tidy(of = served, at = data): Promise<void> {
  const known = (await of.client.images()).flatMap((i) => i.files.map((f) => f.sha256));
  expect(readdirSync(join(at, 'images')).sort()).toEqual([...new Set(known)].sort());
  expect(readdirSync(join(at, 'incoming')).filter((f) => f.startsWith('x-'))).toEqual([]);
}
afterEach(() => tidy());

describe('taking in', () => {
  it('parts a folder into releases by their notes, and unpacks archives', async () => {
    const taken = await json<Taken>(['image', 'add', join(dir.path, 'library')]);
    expect(taken.images.map((i) => i.file).sort()).toEqual(
      libraryImages.map((i) => (i.files.length > 1 ? 'tb48-6.2.0' : i.files[0]!)).sort(),
    );
    expect(taken.remarks.sort()).toEqual([
      'README.txt is no image, and was left out',
      'README.txt is no image, and was left out',
      'tb48-6.2.0.zip was unpacked: 6 files',
      'tollard-winter.tar.gz was unpacked: 10 files',
    ]);
    const again = await run(['image', 'add', join(dir.path, 'library')]);
    expect(again.out).toContain(`0 images added, ${libraryImages.length} here already.`);
  });

  it('keeps what the note says, and makes a note of what it found', async () => {
    const shown = await json<ImageDetail>(['image', 'show', 'tb36-6.1.2.simg']);
    expect(shown.note).toMatchObject({ from: [{ atLeast: '5.9.0' }], resets: [{ what: 'settings', from: { below: '5.9.0' } }] });
    const at = place();
    const file = put(at, 'tb24-4.2.3.simg', sound('04-02-03'));
    const added = await run(['image', 'add', file, '--write-note', '--channel', 'candidate']);
    expect(added.out).toContain('version 4.2.3, ');
    const note = imageNoteSchema.parse(JSON.parse(readFileSync(`${file}.note.json`, 'utf8')));
    expect(note).toMatchObject({ family: 'tarnbrook-access', version: '4.2.3', channel: 'candidate', variant: '' });
    expect(note.files).toEqual([{ file: 'tb24-4.2.3.simg', sha256: sha('sha256', readFileSync(file)), bytes: readFileSync(file).length }]);
    // The note that it wrote is taken along from then on.
    await run(['image', 'remove', 'tb24-4.2.3.simg']);
    expect((await json<Taken>(['image', 'add', file])).images[0]).toMatchObject({ channel: 'candidate', isNew: true });
  });

  it('reads the headers of other formats, and checks what they tell', async () => {
    const files = new Map(libraryImages.flatMap((i) => releaseFiles(i).map((f) => [f.name, f.bytes] as const)));
    const list = await json<Image[]>(['image', 'list']);
    expect(list.find((i) => i.file === 'sp8-1.13.img')).toMatchObject({
      family: 'stavewell-strip',
      version: '1.13',
      hardwareRevisions: ['4'],
    });
    expect(list.find((i) => i.file === 'sc16-4.0.3.itb')).toMatchObject({ family: 'stavewell-console', version: '4.0.3' });
    const at = place();
    const refusal = async (name: string, change: (bytes: Buffer) => Buffer) =>
      (await run(['image', 'add', put(at, name, change(Buffer.from(files.get(name)!)))])).err;
    const flip = (offset: number) => (bytes: Buffer) => ((bytes[offset]! ^= 1), bytes);
    expect(await refusal('sp8-1.13.img', flip(40))).toContain("the header's own CRC is");
    expect(await refusal('sp8-1.13.img', flip(5000))).toMatch(/its header tells CRC-32 [0-9a-f]+, the content has/);
    expect(await refusal('sp8-1.13.img', (b) => b.subarray(0, 9000))).toContain('its header tells of 49152 octets, it has 8936');
    expect(await refusal('sc16-4.0.3.itb', (b) => b.subarray(0, 200))).toContain('tree');
    expect(await refusal('sc16-4.0.3.itb', flip(11))).toMatch(/token|tree|node/);
  });

  it('takes several files as one release, in the order of the note, all or nothing', async () => {
    const release = libraryImages.find((i) => i.files.length > 1)!;
    await run(['image', 'remove', 'tb48-6.2.0']);
    const at = place();
    for (const { name, bytes } of releaseFiles(release)) put(at, name, bytes);
    rmSync(join(at, release.files[1]!));
    const missing = await run(['image', 'add', at]);
    expect([missing.code, missing.err]).toEqual([4, expect.stringContaining('tb48-6.2.0-pages.simg did not come') as string]);
    await tidy();
    put(at, release.files[1]!, releaseFiles(release)[2]!.bytes);
    expect((await run(['image', 'add', at])).err).toContain('its note tells of SHA-256');
    put(at, release.files[1]!, releaseFiles(release)[1]!.bytes);
    // The note alone is enough to name them all.
    const taken = await json<Taken>(['image', 'add', join(at, `${release.files[0]!}.note.json`)]);
    expect(taken.images).toMatchObject([{ file: 'tb48-6.2.0', isNew: true }]);
    expect(taken.images[0]!.files.map((f) => f.file)).toEqual(release.files);
    expect((await run(['image', 'show', 'tb48-6.2.0'])).out).toMatch(/1 {2}tb48-6\.2\.0-system\.simg[\s\S]*3 {2}tb48-6\.2\.0-radio\.simg/);
  });

  it('makes one release of files without a note when that is said', async () => {
    const at = place();
    const files = ['tb36-6.3.0.a.simg', 'tb36-6.3.0.b.simg'].map((name) =>
      put(
        at,
        name,
        makeImage({ maker: 'Tarnbrook', models: ['TB-3608'], hardwareRevisions: ['A1'], version: '6.3.0', part: name, payloadBytes: 5000 }),
      ),
    );
    const apart = await run(['image', 'add', ...files]);
    expect(apart.err).toContain('is already version 6.3.0 for this hardware');
    await run(['image', 'remove', 'tb36-6.3.0.a.simg']);
    const taken = await json<Taken>(['image', 'add', ...files, '--one-release']);
    expect(taken.images.map((i) => [i.file, i.files.length])).toEqual([['tb36-6.3.0', 2]]);
    await run(['image', 'remove', 'tb36-6.3.0']);
  });

  it('compares published digests; the weak ones only compare', async () => {
    const bytes = sound('4.2.4');
    const file = put(place(), 'tb24-4.2.4.simg', bytes);
    const wrong = await run(['image', 'add', library.wrongDigest.file, '--checksums', library.wrongDigest.checksums]);
    expect([wrong.code, wrong.err]).toEqual([
      4,
      expect.stringMatching(/d40-3\.0\.3\.simg: its SHA-256 is [0-9a-f]{64}, published was/) as string,
    ]);
    for (const kind of ['sha256', 'sha512', 'sha1', 'md5'])
      expect((await run(['image', 'add', file, '--digest', sha(kind, randomBytes(8))])).err).toContain('published was');
    expect((await run(['image', 'add', file, '--digest', 'c0ffee'])).err).toContain('"c0ffee" is no digest');
    const weak = await json<Taken>(['image', 'add', file, '--digest', sha('md5', bytes)]);
    expect(weak.remarks).toEqual(['tb24-4.2.4.simg was compared by MD5 only, which shows damage and no forgery']);
    const strong = await json<Taken>(['image', 'add', file, '--digest', sha('sha512', bytes).toUpperCase()]);
    expect(strong).toMatchObject({ images: [{ isNew: false }], remarks: [] });
    const list = put(place(), 'list.txt', 'this is no list\n');
    const unread = await run(['image', 'add', file, '--checksums', list]);
    expect([unread.code, unread.err]).toEqual([4, expect.stringContaining('line 1 is not "digest  name"') as string]);
  });
});

describe('what does not agree', () => {
  const at = place();
  it.each<[string, string, Buffer, string[], string]>([
    ['its name', 'tb24-4.2.6.simg', sound('4.2.7'), [], 'version: the file name says 4.2.6, the header in the file says 4.2.7'],
    ['its twin', 'tb24r-4.2.7.simg', sound('4.2.7'), [], 'variant: the file name says rugged, the header in the file says plain'],
    [
      'its board',
      'tb24b-4.2.7.simg',
      sound('4.2.7', { models: ['TB-2424'] }),
      [],
      'hardware revision: the file name says B1, the header in the file says A1',
    ],
    [
      'its family',
      'wr110-R7.03.simg',
      sound('4.2.7'),
      [],
      'family: the file name says wendlock-branch, the header in the file says tarnbrook-access',
    ],
    [
      'what was said',
      'tb24-4.2.7.simg',
      sound('4.2.7'),
      ['--version', '4.2.6'],
      'version: the file name says 4.2.7, the header in the file says 4.2.7, you say 4.2.6',
    ],
    [
      'the model that was said',
      'x.simg',
      sound('4.2.7'),
      ['--model', 'TB-2424'],
      'model: the header in the file says TB-2408, you say TB-2424',
    ],
    ['a family that nobody knows', 'x.simg', sound('4.2.7'), ['--family', 'toasters'], 'the family toasters is not known here'],
  ])('%s stops it, and all that was said is shown', async (_, name, bytes, args, why) => {
    const ran = await run(['image', 'add', put(at, name, bytes), ...args]);
    expect(ran.code).toBe(4);
    expect(ran.err).toContain(why);
  });

  it.each<[string, object, string]>([
    [
      'the version',
      { version: '4.2.6' },
      'version: the file name says 4.2.7, the header in the file says 4.2.7, the note beside it says 4.2.6',
    ],
    ['the family', { family: 'wendlock-branch' }, 'family: '],
    ['no family here', { family: 'toasters' }, 'the family toasters is not known here'],
    ['a range that nobody can read', { from: [{ atLeast: 'newish' }] }, 'its note names newish, which the family cannot read'],
    ['a key that is none', { colour: 'blue' }, 'Unrecognized key: "colour"'],
  ])('a note with %s stops it', async (_, over, why) => {
    const own = place();
    const file = put(own, 'tb24-4.2.7.simg', sound('4.2.7'));
    put(
      own,
      'tb24-4.2.7.simg.note.json',
      JSON.stringify({
        imageNote: 1,
        family: 'tarnbrook-access',
        version: '4.2.7',
        models: ['TB-2408'],
        hardwareRevisions: ['A1'],
        ...over,
      }),
    );
    const ran = await run(['image', 'add', file]);
    expect([ran.code, ran.err]).toEqual([4, expect.stringContaining(why) as string]);
  });
});

describe('archives that are not what they should be', () => {
  const at = place();
  const good = sound('4.2.9');
  put(at, 'tb24-4.2.9.simg', good);
  /** Made by the system's own tar, which writes whatever it is told. */
  const tarOf = (name: string, args: string[]): string => {
    execFileSync('tar', ['-cf', join(at, name), '-C', at, ...args], { stdio: 'pipe' });
    return join(at, name);
  };
  /** Made by the system's own Python, which lets any name into a zip. */
  const zipOf = (name: string, code: string): string => {
    execFileSync('python3', [
      '-c',
      `import zipfile\nz = zipfile.ZipFile(${JSON.stringify(join(at, name))}, 'w', zipfile.ZIP_DEFLATED)\n${code}\nz.close()`,
    ]);
    return join(at, name);
  };
  const image = `open(${JSON.stringify(join(at, 'tb24-4.2.9.simg'))}, 'rb').read()`;

  it.each<[string, () => string, string]>([
    [
      'a name that climbs out of a tar',
      () => tarOf('a.tar', ['-P', '--transform=s,^tb24,../../tb24,', 'tb24-4.2.9.simg']),
      'a name that leads out of the archive',
    ],
    [
      'an absolute name in a tar',
      () => tarOf('b.tar', ['-P', '--transform=s,^tb24,/etc/tb24,', 'tb24-4.2.9.simg']),
      'a name that leads out of the archive',
    ],
    [
      'a symbolic link in a tar',
      () => {
        symlinkSync('/etc/passwd', join(at, 'tb24-link.simg'));
        return tarOf('c.tar', ['tb24-4.2.9.simg', 'tb24-link.simg']);
      },
      'a link',
    ],
    [
      'a device under an honest name',
      () => tarOf('e.tar', ['-P', '--transform=s,^/dev/,,', 'tb24-4.2.9.simg', '/dev/zero']),
      'neither a file nor a folder',
    ],
    [
      'a name that climbs out of a zip',
      () => zipOf('f.zip', `z.writestr('../tb24-4.2.9.simg', ${image})`),
      'a name that leads out of the archive',
    ],
    [
      'a symbolic link in a zip',
      () => zipOf('g.zip', `i = zipfile.ZipInfo('tb24-4.2.9.simg')\ni.external_attr = 0o120777 << 16\nz.writestr(i, '/etc/passwd')`),
      'a link',
    ],
    [
      'one name twice',
      () => zipOf('h.zip', `z.writestr('a/tb24-4.2.9.simg', ${image})\nz.writestr('b/tb24-4.2.9.simg', ${image})`),
      'more than once',
    ],
    [
      'a bomb',
      () => zipOf('i.zip', `z.writestr('tb24-4.2.9.simg', ${image})\nz.writestr('zeros.bin', bytes(300 * 1024 * 1024))`),
      'unpacks to more than',
    ],
    ['too many files', () => zipOf('j.zip', `[z.writestr(f'f{n}.txt', '') for n in range(2100)]`), 'more than 2000 files'],
    [
      'an end that is missing',
      () => {
        const whole = readFileSync(zipOf('k.zip', `z.writestr('tb24-4.2.9.simg', ${image})`));
        return put(at, 'k.zip', whole.subarray(0, whole.length - 30));
      },
      'not a zip file, or file is truncated',
    ],
    ['no image', () => zipOf('l.zip', `z.writestr('README.txt', 'hello')`), 'there is no image in it; it holds README.txt'],
    ['nothing', () => zipOf('m.zip', 'pass'), 'holds no files'],
  ])('%s: refused whole, and nothing is kept', async (_, make, why) => {
    const ran = await run(['image', 'add', make()]);
    expect(ran.err).toContain(why);
    expect(ran.code).toBe(4);
    expect((await json<Image[]>(['image', 'list'])).some((i) => i.version === '4.2.9')).toBe(false);
  });
});

describe('uploads', () => {
  const bytes = sound('4.2.5', { payloadBytes: 3_000_000 });
  /** Sends a part of the body and leaves the connection open until it is told to break it. */
  const halfOf = async (id: string, offset: number, part: Buffer): Promise<() => void> => {
    const sending = request(`${served.url}/api/v1/uploads/${id}?offset=${offset}`, {
      method: 'PUT',
      headers: { authorization: `Bearer ${served.token}`, 'content-length': bytes.length - offset },
    });
    sending.on('error', () => undefined);
    sending.write(part);
    // Broken off at once, what is on the way would be lost with the connection.
    await expect.poll(async () => (await served.client.upload(id)).received).toBeGreaterThan(offset);
    return () => sending.destroy();
  };
  const begin = () => served.client.beginUpload({ file: 'tb24-4.2.5.simg', bytes: bytes.length, key: 'k' });

  it('go on where a broken connection, and a restart, have left them', async () => {
    const { id } = await begin();
    (await halfOf(id, 0, bytes.subarray(0, 1_000_000)))();
    await expect(served.client.take({ uploads: [id] })).rejects.toMatchObject({ problem: { code: 'upload-incomplete' } });
    await served.kill();
    served = await serve(data);
    const there = await begin();
    expect(there.id).toBe(id);
    expect(there.received).toBeGreaterThan(0);
    expect(there.receivedSha256).toBe(sha('sha256', bytes.subarray(0, there.received)));
    await expect(served.client.sendUpload(id, 0, new Uint8Array(bytes))).rejects.toMatchObject({ problem: { code: 'upload-offset' } });
    await served.client.sendUpload(id, there.received, new Uint8Array(bytes.subarray(there.received)));
    const taken = await served.client.take({ uploads: [id] });
    expect(taken.images).toMatchObject([{ sha256: sha('sha256', bytes), isNew: true }]);
    await expect(served.client.upload(id)).rejects.toMatchObject({ problem: { code: 'upload-unknown' } });
    await run(['image', 'remove', 'tb24-4.2.5.simg']);
  });

  it('of one file twice at once: the second is told, and goes on when the first is gone', async () => {
    const { id } = await begin();
    const stop = await halfOf(id, 0, bytes.subarray(0, 500_000));
    await expect
      .poll(() => served.client.sendUpload(id, 0, new Uint8Array(bytes)).catch((e: { problem: { code: string } }) => e.problem.code), {
        timeout: 10_000,
      })
      .toMatch(/^upload-(busy|offset)$/);
    stop();
    // The command line waits and goes on by itself; two of them take one content once.
    const file = put(place(), 'tb24-4.2.5.simg', bytes);
    const both = await Promise.all([run(['image', 'add', file]), run(['image', 'add', file])]);
    expect(
      both.map((b) => b.code),
      both.map((b) => b.err).join('\n'),
    ).toEqual([0, 0]);
    expect((await json<Image[]>(['image', 'list'])).filter((i) => i.version === '4.2.5')).toHaveLength(1);
    await served.client.dropUpload(id);
  });

  it('that bring more than was announced are refused, and nothing of the excess is kept', async () => {
    const { id } = await served.client.beginUpload({ file: 'a.simg', bytes: 10, key: 'short' });
    await expect(served.client.sendUpload(id, 0, new Uint8Array(500_000))).rejects.toMatchObject({ problem: { code: 'upload-too-long' } });
    expect((await served.client.upload(id)).received).toBeLessThanOrEqual(10);
    await served.client.dropUpload(id);
  });

  it('of a name that no device could ask for are refused', async () => {
    const { id } = await served.client.beginUpload({ file: '../a b.simg', bytes: 4, key: 'name' });
    await served.client.sendUpload(id, 0, 'SIMG');
    await expect(served.client.take({ uploads: [id] })).rejects.toMatchObject({ problem: { code: 'file-name-unfit' } });
  });

  it('may be sent by operators, and not by viewers', async () => {
    const { token } = await served.client.addToken({ name: 'looks', role: 'viewer' });
    const asViewer = (path: string, method: string) =>
      fetch(`${served.url}/api/v1${path}`, {
        method,
        headers: { authorization: `Bearer ${token}` },
        ...(method === 'GET' ? {} : { body: 'x' }),
      });
    for (const [path, method] of [
      ['/uploads/u-1?offset=0', 'PUT'],
      ['/images?file=a', 'POST'],
      ['/images/carry', 'POST'],
    ] as const)
      expect((await asViewer(path, method)).status).toBe(403);
    expect((await asViewer('/images/carry', 'GET')).status).toBe(200);
  });
});

// A small file system of its own, which only root can make.
describe.skipIf(process.getuid?.() !== 0)('a full disk', () => {
  it('is told as such, keeps nothing by half, and takes what fits', async () => {
    const small = join(dir.path, 'small');
    mkdirSync(small);
    execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=12m', 'barrow-test', small]);
    let one: Served | undefined;
    try {
      const own = join(small, 'data');
      one = await serve(own);
      const at = place();
      const big = put(at, 'tb24-4.2.2.simg', sound('4.2.2', { payloadBytes: 14 * 1024 * 1024 }));
      const full = await barrow(['image', 'add', big], { data: own });
      expect(full.code).toBe(4);
      expect(full.err).toContain('There is no room for it');
      await tidy(one, own);
      expect(readdirSync(join(own, 'incoming'))).toEqual([]);
      const direct = await fetch(`${one.url}/api/v1/images?file=tb24-4.2.2.simg`, {
        method: 'POST',
        body: new Uint8Array(readFileSync(big)),
        headers: { authorization: `Bearer ${one.token}` },
      });
      expect([direct.status, ((await direct.json()) as { code: string }).code]).toEqual([413, 'store-full']);
      const fits = put(at, 'tb24-4.2.3.simg', sound('4.2.3'));
      expect((await barrow(['image', 'add', fits], { data: own })).code).toBe(0);
      await tidy(one, own);
    } finally {
      await one?.kill();
      execFileSync('umount', [small]);
    }
  });
});

describe('an image that is known', () => {
  it('can be withdrawn, and its note can be changed, but not against the file', async () => {
    expect((await run(['image', 'withdraw', 'fc20-9.5.2.simg'])).code).toBe(2);
    expect((await run(['image', 'withdraw', 'fc20-9.5.2.simg', '--why', 'it forgets its access points'])).code).toBe(0);
    expect((await run(['image', 'list'])).out).toMatch(/fc20-9\.5\.2\.simg +9\.5\.2 +■ withdrawn/);
    const printed = await run(['image', 'note', 'fc20-9.5.2.simg']);
    const note = imageNoteSchema.parse(JSON.parse(printed.out));
    expect(note.withdrawn).toEqual({ why: 'it forgets its access points' });
    const at = place();
    const changed = put(at, 'n.json', JSON.stringify({ ...note, withdrawn: null, fixes: ['roaming'] }));
    expect((await run(['image', 'note', 'fc20-9.5.2.simg', '--set', changed])).code).toBe(0);
    expect((await json<ImageDetail>(['image', 'show', 'fc20-9.5.2.simg'])).fixes).toEqual([
      { text: 'roaming', advisory: null, exposed: 0 },
    ]);
    const against = put(at, 'm.json', JSON.stringify({ ...note, models: ['FC-99'] }));
    const refused = await run(['image', 'note', 'fc20-9.5.2.simg', '--set', against]);
    expect([refused.code, refused.err]).toEqual([4, expect.stringContaining('model: ') as string]);
  });

  it('is read again, part by part, and what has rotted is named', async () => {
    const { files } = await served.client.image('tb48-6.2.0');
    const path = join(data, 'images', files[1]!.sha256);
    const good = readFileSync(path);
    const bad = Buffer.from(good);
    bad[3000]! ^= 4;
    writeFileSync(path, bad);
    const ran = await run(['image', 'verify']);
    expect(ran.code).toBe(1);
    expect(ran.out).toMatch(/tb48-6\.2\.0 +[0-9a-f]{12}… +✕ NO +tb48-6\.2\.0-pages\.simg: \d+ octets that no longer have the digest/);
    await expect(served.client.exportImages(['tb48-6.2.0'])).rejects.toMatchObject({ problem: { code: 'image-missing' } });
    writeFileSync(path, good);
    expect((await run(['image', 'verify'])).code).toBe(0);
  });
});

describe('carrying to a place without a network', () => {
  const archive = join(dir.path, 'carried.tar');
  it('brings images, notes, families and targets; checked whole before anything is taken', async () => {
    await served.client.setTarget({ family: 'wendlock-lane', version: 'L1.2', fromFamilies: ['wendlock-edge'] });
    await served.client.setTarget({ family: 'tollard-desk', version: '3.0.2', tag: 'pilot' });
    // What was said while a family was taught goes along.
    const beside = join(data, 'families', 'wendlock-lane.conversations');
    mkdirSync(beside, { recursive: true });
    writeFileSync(
      join(beside, 'locate.yaml'),
      'procedure: locate\ndevice: lane-1\nrecorded: 2026-11-27T10:00:00Z\ngreeting: "> "\ntalk:\n  - say: blink\n    answer: "> "\n',
    );
    expect((await run(['image', 'export', archive])).out).toContain('Take it in there with');
    const here = await json<Image[]>(['image', 'list']);
    // There, one family is not known yet.
    const families = join(dir.path, 'families');
    mkdirSync(families);
    for (const f of readdirSync(shippedFamilies)) if (f !== 'wendlock-lane.yaml') copyFileSync(join(shippedFamilies, f), join(families, f));
    const there = join(dir.path, 'there');
    let other = await serve(there, { args: ['--families', families] });
    try {
      const far = (args: string[]) => barrow(args, { data: there });
      const whole = readFileSync(archive);
      const broken = Buffer.from(whole);
      broken[whole.length - 40_000]! ^= 1;
      const tampered = await far(['image', 'import', put(dir.path, 'tampered.tar', broken)]);
      expect([tampered.code, tampered.err]).toEqual([
        4,
        expect.stringContaining('does not have the digest that the manifest tells') as string,
      ]);
      for (const [name, bytes, why] of [
        ['cut.tar', whole.subarray(0, 200_000), 'is refused'],
        ['page.tar', Buffer.from('<html>'), 'It is not an archive that Barrow wrote'],
      ] as const)
        expect((await far(['image', 'import', put(dir.path, name, bytes)])).err, name).toContain(why);
      await tidy(other, there);
      expect(await other.client.images()).toEqual([]);
      expect((await far(['image', 'import', archive, '--dry-run'])).out).toMatch(/wr60-L1\.2\.simg +L1\.2 +would be added/);
      expect(await other.client.images()).toEqual([]);

      const done = (await far(['image', 'import', archive, '--json'])).json<Carried>();
      expect(done.images.every((i) => i.what === 'added')).toBe(true);
      expect(done.families.find((f) => f.family === 'wendlock-lane')?.what).toBe('added');
      expect(readFileSync(join(there, 'families', 'wendlock-lane.conversations', 'locate.yaml'), 'utf8')).toContain('device: lane-1');
      expect(done.targets.map((t) => `${t.family} ${t.scope} ${t.what}`).sort()).toEqual([
        'tollard-desk tag pilot added',
        'wendlock-lane every device of the family added',
      ]);
      const arrived = await other.client.images();
      expect(arrived.map((i) => i.sha256).sort()).toEqual(here.map((i) => i.sha256).sort());
      expect((await other.client.image('fc20-9.5.2.simg')).note.fixes).toEqual(['roaming']);
      await tidy(other, there);
      // What was carried in outlives a restart, and a second time changes nothing.
      await other.stop();
      other = await serve(there, { args: ['--families', families] });
      expect((await other.client.families()).some((f) => f.family === 'wendlock-lane')).toBe(true);
      const again = (await far(['image', 'import', archive, '--json'])).json<Carried>();
      expect(new Set([...again.images, ...again.targets].map((i) => i.what))).toEqual(new Set(['was here']));
      expect(new Set(again.families.map((f) => f.what))).toEqual(new Set(['the same']));
    } finally {
      await other.kill();
    }
  });

  it('refuses a note in it that is none, and one that is not there, by name', async () => {
    const at = place();
    const note = Buffer.from('{"imageNote": 2}');
    const manifest = { carry: 1, madeAt: 'now', families: [], targets: [], images: [{ sha256: 'a'.repeat(64), note: 'n.note.json' }] };
    const member = { member: 'n.note.json', sha256: sha('sha256', note), bytes: note.length };
    for (const [members, why] of [
      [[member], 'n.note.json: imageNote: '],
      [[], 'n.note.json is not in it'],
    ] as const) {
      put(at, 'carry.json', JSON.stringify({ ...manifest, members }));
      put(at, 'n.note.json', note);
      execFileSync('tar', ['-cf', join(at, 'x.tar'), '-C', at, 'carry.json', ...members.map((m) => m.member)]);
      const ran = await run(['image', 'import', join(at, 'x.tar')]);
      expect([ran.code, ran.err]).toEqual([4, expect.stringContaining(why) as string]);
    }
  });

  it('leaves no half-written archive behind', async () => {
    const at = join(place(), 'none.tar');
    expect((await run(['image', 'export', at, 'no-such-image'])).code).toBe(2);
    expect(existsSync(at), basename(at)).toBe(false);
  });
});
