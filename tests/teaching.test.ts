import { execFileSync } from 'node:child_process';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { discover, addNetworks, setScene, type Scene } from './support/scene.js';
import { barrow, folder, serve } from './support/service.js';

/** The router is there, and the service has no family that would know it. */
const unknown = {
  'wendlock-branch': [
    ["objectId: '^1\\.3\\.6\\.1\\.4\\.1\\.32473\\.20\\.1\\.\\d+$'", "objectId: '^none$'"],
    ["identification: '^SSH-2\\.0-Wendlock_1$'", "identification: '^none$'"],
  ],
} as const;

describe('gear that no family fits', () => {
  let scene: Scene;
  const dir = folder();
  const file = join(dir.path, 'my-router.yaml');
  const kept = join(dir.path, 'my-router.conversations', 'record.yaml');
  const cli = (args: readonly string[], input = '') => barrow(args, { data: scene.data, input });
  const text = (): string => readFileSync(file, 'utf8');
  beforeAll(async () => {
    scene = await setScene({ network: 139, only: ['quay-rt-1'], families: unknown });
    await addNetworks(scene.served.client, scene.fleet);
    await discover(scene.served.client);
  });
  afterAll(async () => {
    await scene?.end();
    dir.remove();
  });

  it('is drafted from what it answered', async () => {
    expect((await scene.served.client.device('quay-rt-1')).family).toBeNull();
    const made = await cli(['family', 'new', 'quay-rt-1', '--family', 'my-router', '--versions', 'R6.11, R7.02', '--out', file]);
    expect(made).toMatchObject({ code: 0, out: expect.stringContaining(`barrow family record ${file} record quay-rt-1`) as string });
    expect(text()).toContain('identification: ^SSH-2\\.0-Wendlock_1$');
    expect(text()).toContain('R(?P<major>\\d+)\\.(?P<minor>\\d+)');
    expect(text()).toMatch(/^# {3}record /m);
    const checked = await cli(['family', 'check', file]);
    expect(checked).toMatchObject({ code: 0, out: expect.stringContaining('Nothing of it is upgraded') as string });
    // What is there is not written over.
    expect(await cli(['family', 'new', 'quay-rt-1', '--versions', 'R6.11', '--out', file])).toMatchObject({
      code: 2,
      err: expect.stringContaining('is there already') as string,
    });
  });

  it('is not drafted from versions that have no shape in common, or stand the wrong way round', async () => {
    const tried = async (versions: string) => (await cli(['family', 'new', 'quay-rt-1', '--versions', versions])).err;
    expect(await tried('R6.11, beta')).toContain('"beta" has no number');
    expect(await tried('R6.11, 6.12')).toContain('differ in more than numbers');
    expect(await tried('R7.02, R6.11')).toContain('R6.11 would not be newer than R7.02: name the oldest first');
    expect(await tried(' , ')).toContain('Name two or three versions');
  });

  it('is recorded by doing it once, and the file does the same from then on', async () => {
    const truth = scene.fleet.device('quay-rt-1').options;
    // No password goes to what nobody knows and nobody has approved.
    const refused = await cli(['family', 'record', file, 'record', 'quay-rt-1'], 'about\n');
    expect(refused).toMatchObject({ code: 4, err: expect.stringContaining('nobody has approved it') as string });
    expect((await cli(['device', 'approve', 'quay-rt-1'])).code).toBe(0);
    const done = await cli(
      ['family', 'record', file, 'record', 'quay-rt-1', '--is', `serial=${truth.serial}`],
      'about\n:is firmware R7.02\n:end\nflash\n',
    );
    expect(done).toMatchObject({ code: 0 });
    expect(done.out).toContain('<quay-rt-1> about');
    expect(done.out).toMatch(/✓ record: 1 step, as it was recorded/);
    expect(done.out).toContain('→ firmware: R7.02');
    expect(done.out).toContain(`→ serial: ${truth.serial}`);
    // What came after the end was not said.
    expect(readFileSync(kept, 'utf8')).not.toContain('say: flash');
    expect(text()).toContain('prompt: (?:^|\\n)<[A-Za-z0-9._-]+> *$');
    expect(text()).not.toMatch(/^# {3}record /m);
    expect(text()).toContain('# Every model, with the hardware revisions');
    // It is not written over unasked.
    expect(await cli(['family', 'record', file, 'record', 'quay-rt-1'], 'about\n')).toMatchObject({
      code: 2,
      err: expect.stringContaining('--replace') as string,
    });
  });

  it('is tried against what was said, with no device, and every difference is told', async () => {
    expect(await cli(['family', 'try', file])).toMatchObject({ code: 0 });
    const good = text();
    const tried = async (from: string, to: string) => {
      writeFileSync(file, good.replace(from, to));
      const { code, out } = await cli(['family', 'try', file]);
      writeFileSync(file, good);
      expect(code).toBe(1);
      return out;
    };
    expect(await tried('say: about', 'say: abuot')).toContain('it types "abuot", and "about" was typed then');
    expect(await tried('- say: about', '- say: about\n      - say: flash')).toContain('it types "flash", and nothing more was said then');
    expect(await tried('^runs=(?P<firmware>', '^loader=(?P<firmware>')).toMatch(/it tells firmware as "W1\.\d", and it is "R7.02"/);
    expect(await tried('firmware: ${firmware}', 'name: x')).toContain('it does not tell firmware, which is "R7.02"');
    expect(await tried('._-]+> *$', '._-]+# *$')).toContain('waits for an end that did not come');
    expect(
      await tried('    do:\n', "    do:\n      - check: { value: '1', is: '2' }\n        cause: device-busy\n        detail: never\n"),
    ).toContain('it ends with device-busy');
    writeFileSync(kept, readFileSync(kept, 'utf8').replace('talk:', 'tolk:'));
    const broken = await cli(['family', 'try', file]);
    expect(broken).toMatchObject({ code: 1, out: expect.stringContaining('is talk meant?') as string });
    writeFileSync(kept, readFileSync(kept, 'utf8').replace('tolk:', 'talk:'));
  });

  it('is tried on a device where the procedure only asks', async () => {
    // Nobody can tell from a line that is typed into a shell what it does: an admin says that it may be typed.
    const refused = await cli(['family', 'try', file, '--against', 'quay-rt-1', '--only', 'record']);
    expect(refused).toMatchObject({ code: 4, err: expect.stringContaining('types "about"') as string });
    const asked = await cli(['family', 'try', file, '--against', 'quay-rt-1', '--may-change']);
    expect(asked).toMatchObject({ code: 0, out: expect.stringContaining('→ firmware: R7.02') as string });
    await expect(scene.served.client.tryFamily(text(), 'reboot', 'quay-rt-1')).rejects.toMatchObject({
      problem: { code: 'procedure-changes' },
    });
    await expect(
      scene.served.client.tryFamily(text().replace('say: about', 'say: nonsense'), 'record', 'quay-rt-1', true),
    ).rejects.toMatchObject({
      problem: { code: 'unexpected-answer' },
    });
  });

  it('is known from the next discovery on', async () => {
    expect(await cli(['family', 'add', file])).toMatchObject({ code: 0 });
    await discover(scene.served.client);
    const { family, firmware, serial } = await scene.served.client.device('quay-rt-1');
    expect({ family, firmware, serial }).toEqual({
      family: 'my-router',
      firmware: 'R7.02',
      serial: scene.fleet.device('quay-rt-1').options.serial,
    });
  });

  it('is handed on as one archive, with what was said while it was taught', async () => {
    const [archive, here] = [join(dir.path, 'handed-on.tar'), readFileSync(kept, 'utf8')];
    const written = await cli(['family', 'write', 'my-router', '--archive', archive]);
    expect(written).toMatchObject({ code: 0, out: expect.stringContaining('an ordinary tar') as string });
    // A service that knows nothing of it.
    const other = await serve(join(dir.path, 'other'));
    const elsewhere = (...args: string[]) => barrow([...args, '--url', other.url, '--token', other.token]);
    try {
      const added = await elsewhere('family', 'add', archive);
      expect(added).toMatchObject({ code: 0, out: expect.stringContaining('1 conversation with it') as string });
      const again = join(dir.path, 'again.tar');
      await elsewhere('family', 'write', 'my-router', '--archive', again);
      execFileSync('tar', ['xf', again, '-C', dir.path]);
      expect(readFileSync(kept, 'utf8')).toBe(here);
      expect(text()).toBe((await other.client.familyFile('my-router')).text);
      // What has come along and is not so any more is told, and taken all the same.
      writeFileSync(kept, here.replace('firmware: R7.02', 'firmware: R7.99'));
      execFileSync('tar', ['cf', again, '-C', dir.path, 'my-router.yaml', 'my-router.conversations']);
      writeFileSync(kept, here);
      expect((await elsewhere('family', 'add', again)).out).toContain('record is not as it was recorded: ');
      expect((await elsewhere('family', 'remove', 'my-router')).code).toBe(0);
      await expect(other.client.familyArchive('my-router')).rejects.toMatchObject({ problem: { code: 'family-unknown' } });
      const broken = await elsewhere('family', 'add', kept);
      expect(broken.code).not.toBe(0);
    } finally {
      await other.stop();
    }
  });

  it('is left alone by who may not, and where nobody lets it in', async () => {
    const { client } = scene.served;
    await expect(client.sayIn('rec-none', 'about')).rejects.toMatchObject({ problem: { code: 'recording-unknown' } });
    const refused = await cli(['family', 'record', file, 'flash', 'quay-rt-1']);
    expect(refused).toMatchObject({ code: 2, err: expect.stringContaining('is no procedure') as string });
    expect(existsSync(join(dir.path, 'my-router.conversations', 'flash.yaml'))).toBe(false);
  });
});
