import { execFileSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout } from '@barrow/core';
import { fitImage } from '@barrow/standins';
import { barrow, folder } from './support/service.js';
import { isEnded, prepare, rolloutUntil, setScene, type FamilyChanges, type Scene } from './support/scene.js';

const compared = `      - check: { value: '\${octets}', is: '\${imageBytes}' }
        cause: wrong-size-taken
        detail: 'the slot holds \${octets} octets, the image has \${imageBytes}'
      - check: { value: '\${sum}', is: '\${imageSha256}' }
        cause: image-damaged
        detail: 'the slot holds sum \${sum}, the image has \${imageSha256}'
    gives: { digest: '\${sum}', version: '\${version}' }`;

/** One upgrade of one switch, by a family file that says something else than the one that ships. */
function upgraded(network: number, families: FamilyChanges, check: (scene: () => Scene, rollout: () => Rollout) => void): void {
  let scene: Scene;
  let rollout: Rollout;
  beforeAll(async () => {
    scene = await setScene({ network, only: ['quay-sw-1'], families });
    await prepare(scene);
    const plan = await scene.served.client.plan({ devices: ['quay-sw-1'], first: 0 });
    await scene.served.client.say(plan.id, 'start');
    rollout = await rolloutUntil(scene.served.client, plan.id, isEnded);
  });
  afterAll(() => scene?.end());
  check(
    () => scene,
    () => rollout,
  );
}

describe('a device that tells another digest than the image has', () => {
  const families = { 'tarnbrook-access': [[compared, "    gives: { digest: '" + 'ab'.repeat(32) + "', version: '${version}' }"]] } as const;
  upgraded(101, families, (scene, rollout) => {
    it('is not verified, and nothing is activated', async () => {
      expect(rollout().runs[0]).toMatchObject({ outcome: 'failed', cause: { code: 'image-damaged' }, step: 'verify-image' });
      expect(rollout().runs[0]!.detail).toContain('the device holds the digest abab');
      expect(scene().fleet.device('quay-sw-1').counters).toMatchObject({ activations: 0, reboots: 0 });
    });
    it('is said to hold something else', async () => {
      const [moved] = await scene().served.client.transfers();
      expect(moved).toMatchObject({ state: 'done', verified: false, comparedBy: 'digest' });
      const shown = await barrow(['transfer', 'show', moved!.id], { data: scene().data });
      expect(shown.out).toContain('on the device: its digest is another');
    });
  });
});

describe('a device that cannot tell what it holds', () => {
  const families = { 'tarnbrook-access': [[compared, "    gives: { version: '${version}' }"]] } as const;
  upgraded(102, families, (scene, rollout) => {
    it('is upgraded, and nobody says that the digest is ours', async () => {
      expect(rollout().runs[0]).toMatchObject({ outcome: 'verified' });
      const [moved] = await scene().served.client.transfers();
      expect(moved).toMatchObject({ state: 'done', verified: null, comparedBy: 'nothing' });
      const shown = await barrow(['transfer', 'show', moved!.id], { data: scene().data });
      expect(shown.out).toContain('the device cannot tell what it holds');
      expect(shown.out).not.toMatch(/verified|is ours/);
    });
  });
});

describe('a device that stops in the middle of its settings', () => {
  const families = {
    'tarnbrook-access': [
      [
        '      - say: tell settings\n        keep: settings',
        "      - say: tell settings\n        until: 'never said$'\n        limit: 1 s\n        keep: settings",
      ],
    ],
  } as const;
  upgraded(103, families, (scene, rollout) => {
    it('shows nothing of them: not in the error, the log, the report, the conversation', async () => {
      const { client, log } = scene().served;
      const run = rollout().runs[0]!;
      expect(run).toMatchObject({ outcome: 'failed', cause: { code: 'no-answer-in-time' }, step: 'backup' });
      expect(run.detail).toMatch(/last: concealed/);
      const detail = await client.run(rollout().id, 'quay-sw-1');
      const all = [JSON.stringify(rollout()), JSON.stringify(detail), JSON.stringify(await client.report(rollout().id)), log()].join('\n');
      expect(all).not.toMatch(/tide-quay|watchword \w|port 5 note/);
    });
  });
});

describe('files that tell what they are', () => {
  let scene: Scene;
  const dir = folder();
  beforeAll(async () => {
    scene = await setScene({
      network: 107,
      only: ['quay-sw-1'],
      families: {
        'tollard-desk': [
          [
            '  header: simg\n  names:\n',
            "  header: none\n  names:\n    - { pattern: '^d40-(?P<version>[0-9.]+)\\.tar\\.gz$', models: [D40], hardwareRevisions: [A, B] }\n",
          ],
        ],
      },
    });
  });
  afterAll(async () => {
    await scene?.end();
    dir.remove();
  });
  const add = (file: string, ...more: string[]) => barrow(['image', 'add', join(dir.path, file), '--json', ...more], { data: scene.data });

  it.each([
    ['behind', 'the firmware of a console server'],
    // Larger than what is read of a file's start.
    ['inside', 'the firmware of a console server, '.repeat(6000)],
  ] as const)('a tree, its data %s, whose part is not what its own hash node tells is refused', async (where, text) => {
    const [sound, changed] = where === 'behind' ? ['4.0.3', '4.0.4'] : ['4.0.5', '4.0.6'];
    const made = (version: string) => fitImage(`SC-16 rev 2 firmware ${version}`, Buffer.from(text), where);
    writeFileSync(join(dir.path, `sc16-${sound}.itb`), made(sound));
    const whole = made(changed);
    whole[whole.indexOf(text.slice(-20))]! ^= 1;
    writeFileSync(join(dir.path, `sc16-${changed}.itb`), whole);
    expect((await add(`sc16-${sound}.itb`)).code).toBe(0);
    const refused = await add(`sc16-${changed}.itb`);
    expect(refused.code).toBe(4);
    expect(refused.json<{ error: { why: string } }>().error.why).toMatch(
      /of its part firmware-1 it tells the sha256 [0-9a-f]{64}, the part has/,
    );
  });

  it('an archive that the device takes whole is taken whole: by the name that its family knows, or on a word', async () => {
    for (const file of ['d40-3.0.9.tar.gz', 'd40-unnamed.tar.gz']) {
      writeFileSync(join(dir.path, 'inside'), `what only the phone unpacks of ${file}`);
      execFileSync('tar', ['-czf', file, 'inside'], { cwd: dir.path });
    }
    const named = (await add('d40-3.0.9.tar.gz')).json<{ images: { file: string; version: string }[] }>();
    expect(named.images[0]).toMatchObject({ file: 'd40-3.0.9.tar.gz', version: '3.0.9' });
    const unpacked = await add('d40-unnamed.tar.gz');
    expect(unpacked.json<{ error: { why: string } }>().error.why).toContain('there is no image in it');
    const word = ['--as-is', '--family', 'tollard-desk', '--model', 'D40', '--revision', 'B', '--version', '3.1.0'];
    expect((await add('d40-unnamed.tar.gz', ...word)).json<{ images: { version: string }[] }>().images[0]).toMatchObject({
      version: '3.1.0',
    });
  });
});
