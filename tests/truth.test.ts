import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout } from '@barrow/core';
import { barrow } from './support/service.js';
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
