import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { Rollout, RunView } from '@barrow/core';
import { isAtRest, type BarrowClient } from '@barrow/client';
import { factoryLogin, isLoggedInOver, login } from '@barrow/standins';
import { barrow, serve } from './support/service.js';
import { addImagesAndTargets, discover, rolloutUntil, setScene, type Scene } from './support/scene.js';
import { addWholeNetworks } from './support/whole.js';

/** Who does not come back is spoken to over its console, where somebody has said into which line that is plugged. */
describe('a device that comes back without its address', () => {
  let scene: Scene;
  let client: BarrowClient;
  const plan = (...devices: string[]): Promise<Rollout> =>
    client.plan({ devices, first: 0, atOnce: 4, failureLimit: 9, wayBack: true, unsaved: 'save' });
  const played = async (name: string, ...faults: string[]): Promise<{ run: RunView; rollout: string }> => {
    const planned = await plan(name);
    for (const fault of faults) await scene.fleet.fault(name, fault);
    await client.say(planned.id, 'start', { accept: ['all'] });
    const { runs } = await rolloutUntil(client, planned.id, isAtRest);
    for (const fault of faults) await scene.fleet.fault(name, fault, false);
    return { run: runs[0]!, rollout: planned.id };
  };
  const noticeOf = async (name: string): Promise<string | undefined> =>
    (await plan(name)).runs[0]!.notices.find((n) => n.includes('spoken to over'));
  const line = (name: string, text: string | null): Promise<unknown> => client.setDevice(name, { console: text });

  beforeAll(async () => {
    const lines = ['quay-rt-1', 'quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4', 'eelgate-sw-1', 'eelgate-sw-2', 'eelgate-sw-3'];
    const only = ['quay-core-1', 'quay-core-2', 'quay-con-1', 'eelgate-rt-1', ...lines];
    // One rung less to wait for.
    const families = { 'tarnbrook-access': [['recovery: [wait, console, power-cycle', 'recovery: [console, power-cycle'] as const] };
    scene = await setScene({ network: 151, scale: 100, only, families, consoles: { 'quay-con-1': lines } });
    ({ client } = scene.served);
    await addWholeNetworks(client, 151, ['quay-house', 'eelgate']);
    await discover(client);
    await addImagesAndTargets(client, scene.images);
  });
  afterAll(() => scene?.end());

  it('is in the plan with the line over which it is spoken to, or why it is not', async () => {
    expect(await noticeOf('quay-sw-1')).toBeUndefined();
    await line('quay-sw-1', 'quay-con-1:line 2');
    expect(await noticeOf('quay-sw-1')).toBe('it is spoken to over line 2 of quay-con-1 if it does not come back');
    expect((await plan('quay-sw-1')).passages[0]!.rungs.map((r) => r.text)).toContain('given its address again over its console');
    const not = 'it is not spoken to over its console if it does not come back: ';
    await line('quay-sw-2', 'quay-con-1');
    expect(await noticeOf('quay-sw-2')).toBe(`${not}nobody knows into which line of quay-con-1 its console is plugged`);
    await line('quay-sw-2', 'quay-sw-3:port 1');
    expect(await noticeOf('quay-sw-2')).toBe(`${not}quay-sw-3, into which its console is plugged, is not one whose lines Barrow can join`);
    await line('quay-sw-2', 'quay-con-1:line 3');
    await line('quay-sw-3', 'quay-con-1:line 4');
    for (const [at, name] of ['quay-sw-4', 'eelgate-sw-1', 'eelgate-sw-2'].entries()) await line(name, `quay-con-1:line ${5 + at}`);
  });

  /** All at once, since each waits for its return: by name what came of it. */
  const came = new Map<string, { run: RunView; rollout: string }>();
  const faults: Readonly<Record<string, readonly string[]>> = {
    'quay-sw-1': ['returns-without-address'],
    'quay-sw-2': ['returns-without-address', 'returns-as-delivered'],
    'quay-sw-3': ['returns-without-address'],
    'quay-sw-4': ['returns-without-address', 'refuses-address'],
    'eelgate-sw-1': ['hangs-at-restart'],
  };
  it('is played with each of its faults', async () => {
    await line('quay-sw-3', 'quay-con-1:line 8');
    await Promise.all(Object.entries(faults).map(async ([name, own]) => came.set(name, await played(name, ...own))));
    await scene.fleet.fault('quay-con-1', 'line-held');
    came.set('eelgate-sw-2', await played('eelgate-sw-2', 'hangs-at-restart'));
    await scene.fleet.fault('quay-con-1', 'line-held', false);
  });

  it('is given it again, is verified, and leaves nobody logged in; its password stands nowhere', async () => {
    const { run, rollout } = came.get('quay-sw-1')!;
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'verified', cause: null });
    const device = scene.fleet.device('quay-sw-1');
    expect(device.counters).toMatchObject({ activations: 1, reboots: 1, powerCuts: 0 });
    expect(isLoggedInOver(device)).toBe(false);
    const { events, conversations } = await client.run(rollout, run.id);
    expect(events.flatMap(({ event: e }) => (e.kind === 'step-done' && e.step === 'by-console' ? [e.facts] : []))).toEqual([
      { line: 'line 2 of quay-con-1', firmware: '4.3.0', address: device.options.address },
    ]);
    const said = conversations.find((c) => c.step === 'by-console')!.text;
    expect(said).toMatch(/joined line 2[\s\S]*who: [\s\S]*serial[\s\S]*answering at 127\.151\.1\./);
    const told = JSON.stringify([events, conversations, await client.report(rollout)]) + scene.served.log();
    expect(told).not.toContain(login.password);
    expect((await barrow(['rollout', 'show', rollout], { data: scene.data })).out).toContain('quay-sw-1');
  });

  it('is let in as from the works when a reset took its logins too, and gets its settings back', async () => {
    const { run, rollout } = came.get('quay-sw-2')!;
    const { events, conversations } = await client.run(rollout, run.id);
    expect(events.some(({ event: e }) => e.kind === 'step-done' && e.step === 'by-console')).toBe(true);
    expect(JSON.stringify([events, conversations])).not.toContain(factoryLogin.password);
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'recovered' });
  });

  it('is told apart from another on that line, whose address stays as it is', () => {
    const { run } = came.get('quay-sw-3')!;
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'failed', cause: { code: 'never-returned' } });
    expect(run.tried).toMatchObject([
      { means: 'console', cause: { code: 'another-device' }, detail: expect.stringContaining('line 8') as string },
    ]);
    const other = scene.fleet.device('eelgate-sw-3');
    expect(isLoggedInOver(other)).toBe(false);
    expect(other.settings).toContain(`address ${other.options.address}`);
  });

  it.each([
    ['does not take its address', 'quay-sw-4', 'address-refused'],
    ['says nothing', 'eelgate-sw-1', 'console-silent'],
    ['is behind a line that another holds', 'eelgate-sw-2', 'console-unreached'],
  ])('is failed with what its console told, when it %s', (_, name, cause) => {
    const { run } = came.get(name)!;
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'failed', cause: { code: 'never-returned' } });
    expect(run.tried[0]).toMatchObject({ means: 'console', cause: { code: cause } });
  });

  it('is not let in by a password that its console refuses, and keeps its power', async () => {
    // The way that failed is tried once more by a person's word, with another password there.
    const { rollout, run } = came.get('quay-sw-4')!;
    const device = scene.fleet.device('quay-sw-4');
    device.faults.add('refuses-login');
    await client.sayRun(rollout, run.id, 'take-back');
    const again = (await rolloutUntil(client, rollout, isAtRest)).runs[0]!;
    expect(again.tried.at(-1), JSON.stringify(again)).toMatchObject({ means: 'console', cause: { code: 'console-refused' } });
    expect(device.counters.powerCuts).toBe(0);
  });

  it('is taught by doing it once over a console, and a rollout then does the same', async () => {
    const cli = (args: readonly string[], input = '') => barrow(args, { data: scene.data, input });
    const file = join(scene.data, '..', 'families', 'tarnbrook-access.yaml');
    const taught = ['enter-console', 'give-address', 'leave-console'];
    const begun = readFileSync(file, 'utf8').replace(/^ {2}enter-console:[\s\S]*?(?=^ {2}locate:)/m, '');
    writeFileSync(file, begun);
    for (const name of taught) expect(begun).not.toContain(`  ${name}:`);
    await line('eelgate-sw-3', null);
    const nowhere = await cli(['family', 'record', file, 'enter-console', 'eelgate-sw-3', '--over', 'console'], 'leave\n');
    expect(nowhere).toMatchObject({ code: 4, err: expect.stringContaining('--console SERVER:LINE') as string });
    await line('eelgate-sw-3', 'quay-con-1:line 8');
    const device = scene.fleet.device('eelgate-sw-3');
    const record = async (name: string, ...typed: string[]): Promise<string> => {
      const done = await cli(['family', 'record', file, name, 'eelgate-sw-3', '--over', 'console'], `${typed.join('\n')}\n`);
      expect(done, done.err).toMatchObject({ code: 0, out: expect.stringContaining(`the procedure ${name} now`) as string });
      return done.out;
    };
    // A login is typed by its name; who types the word itself finds its name in the file all the same.
    await record('enter-console', '', '${consoleUser}', login.password);
    expect(isLoggedInOver(device)).toBe(true);
    await record('give-address', 'answer at ${address}', 'keep settings');
    await record('leave-console', 'leave');
    expect(isLoggedInOver(device)).toBe(false);
    expect(readFileSync(file, 'utf8')).toMatch(
      /enter-console:\s+do:\s+- say: ""\s+until: .*who: .*\s+- say: \$\{consoleUser\}\s+until: .*word: .*\s+- say: \$\{consoleWord\}/,
    );
    const folder = file.replace(/\.yaml$/, '.conversations');
    for (const path of [file, ...taught.map((name) => join(folder, `${name}.yaml`))])
      expect(readFileSync(path, 'utf8')).not.toContain(login.password);
    const tried = await cli(['family', 'try', file]);
    expect(tried, tried.out).toMatchObject({
      code: 0,
      out: expect.stringContaining('✓ enter-console: 3 steps, as it was recorded') as string,
    });

    await scene.served.kill();
    scene.served = await serve(scene.data, { scale: scene.scale, args: ['--families', join(scene.data, '..', 'families')] });
    ({ client } = scene.served);
    const { run } = await played('eelgate-sw-3', 'returns-without-address');
    expect(run, JSON.stringify(run)).toMatchObject({ outcome: 'verified', cause: null });
    expect(isLoggedInOver(device)).toBe(false);
  });
});
