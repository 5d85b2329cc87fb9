import { cpSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { shippedFamilies } from '@barrow/families';
import { checkedFamily, OddGate, oddGateFamily } from './support/odd-gate.js';
import { discover } from './support/scene.js';
import { barrow, folder, serve, type Served } from './support/service.js';

const change = `seat: [{ by-hand: 5 min, words: 'Open the cover of the gate.' }]
      change: [{ reboot: 2 s }, { return: 5 s }, { checks: 2 s }, { by-hand: 5 min, words: 'Look whether it opens.' }, { confirm: 2 s }]`;

describe('a family that asks a person, and whose devices fall back by themselves', () => {
  const dir = folder();
  const data = join(dir.path, 'data');
  const gates = [1, 2, 3, 4, 5, 6].map((n) => new OddGate(`gate-${n}`, `127.126.1.${n}`, 8126));
  const gate = (n: number): OddGate => gates[n - 1]!;
  let served: Served;
  const cli = (...args: string[]) => barrow(args, { data });
  const begin = async (n: number): Promise<string> => {
    const plan = await served.client.plan({ devices: [`gate-${n}`], first: 0, atOnce: 1 });
    await served.client.say(plan.id, 'start');
    return plan.id;
  };
  const runOf = async (id: string) => (await served.client.rollout(id)).runs[0]!;
  const asked = (id: string, words: string) => expect.poll(async () => (await runOf(id)).asks, { timeout: 60_000 }).toBe(words);
  const ended = (id: string) => expect.poll(async () => (await served.client.rollout(id)).phase, { timeout: 60_000 }).toBe('ended');

  beforeAll(async () => {
    const families = join(dir.path, 'families');
    cpSync(shippedFamilies, families, { recursive: true });
    writeFileSync(join(families, 'odd-gate.yaml'), oddGateFamily(change));
    writeFileSync(join(dir.path, 'og1-2.0.bin'), `gate v2.0 \n${'x'.repeat(3000)}`);
    for (const one of gates) await one.start();
    served = await serve(data, { args: ['--families', families], scale: 10 });
    const { client } = served;
    await client.addCredential({ name: 'gates', kind: 'http-basic', user: 'barrow', secret: 'gate-word' });
    await client.addNetwork({
      name: 'odd',
      site: 'quay-house',
      ranges: gates.map((g) => g.address),
      credentials: ['gates'],
      httpPort: 8126,
      trustNow: true,
    });
    await discover(client, ['odd']);
    expect((await client.devices()).map((d) => [d.name, d.family, d.firmware])).toEqual(gates.map((g) => [g.name, 'odd-gate', '1.0']));
    expect((await cli('image', 'add', join(dir.path, 'og1-2.0.bin'))).code).toBe(0);
    await client.setTarget({ family: 'odd-gate', version: '2.0' });
  });
  afterAll(async () => {
    await served?.kill();
    for (const one of gates) await one.stop();
    dir.remove();
  });

  it('waits for the person, goes on at a word, and tells the device to keep what it runs', async () => {
    const id = await begin(1);
    await asked(id, 'Open the cover of the gate.');
    const shown = await cli('rollout', 'show', id);
    expect(shown.out).toContain('To be done by hand now:');
    expect(shown.out).toContain(`gate-1: Open the cover of the gate. Then: \`barrow rollout done ${id} gate-1\``);
    expect(gate(1)).toMatchObject({ version: '1.0', boots: 3 });
    const done = await cli('rollout', 'done', 'latest', 'gate-1', '--note', 'a bird had nested in it');
    expect(done.code, done.err).toBe(0);
    await asked(id, 'Look whether it opens.');
    expect(gate(1)).toMatchObject({ version: '2.0', before: '1.0', kept: 0 });
    await served.client.sayRun(id, 'gate-1', 'done');
    await ended(id);
    expect(await runOf(id)).toMatchObject({ outcome: 'verified', asks: null });
    expect(gate(1)).toMatchObject({ version: '2.0', before: null, kept: 1, boots: 4 });
    const { events } = await served.client.run(id, 'gate-1');
    const said = events.flatMap(({ event }) => (event.kind === 'step-done' && event.step === 'by-hand' ? [event.facts] : []));
    expect(said[0]).toMatchObject({ by: 'first admin', note: 'a bird had nested in it' });
    // Nobody is asked any more.
    expect(await cli('rollout', 'done', id, 'gate-1')).toMatchObject({ code: 4 });
  });

  it('is told the truth of one that fell back before it was told to keep what it runs', async () => {
    const id = await begin(2);
    await asked(id, 'Open the cover of the gate.');
    await served.client.sayRun(id, 'gate-2', 'done');
    await asked(id, 'Look whether it opens.');
    await gate(2).fallBack();
    await served.client.sayRun(id, 'gate-2', 'done');
    await expect.poll(async () => (await runOf(id)).outcome, { timeout: 60_000 }).toBe('failed');
    expect(await runOf(id)).toMatchObject({ cause: { code: 'reverted' }, detail: expect.stringContaining('it runs 1.0 again') as string });
    expect(gate(2)).toMatchObject({ version: '1.0', kept: 0 });
    expect((await served.client.device('gate-2')).firmware).toBe('1.0');
  });

  it('does not believe one that was told, and does not say that it keeps it', async () => {
    gate(5).deaf = true;
    const id = await begin(5);
    for (const words of ['Open the cover of the gate.', 'Look whether it opens.']) {
      await asked(id, words);
      await served.client.sayRun(id, 'gate-5', 'done');
    }
    await expect.poll(async () => (await runOf(id)).outcome, { timeout: 60_000 }).toBe('failed');
    expect(await runOf(id)).toMatchObject({ cause: { code: 'not-confirmed' }, detail: 'it was told to keep 2.0, and says: no' });
    expect(gate(5).kept).toBe(1);
    // Begun anew it is told again: who runs what was brought, and falls back later, is not left alone with it.
    gate(5).deaf = false;
    await served.client.sayRun(id, 'gate-5', 'retry');
    await expect.poll(async () => (await runOf(id)).outcome, { timeout: 60_000 }).toBe('verified');
    expect(gate(5)).toMatchObject({ version: '2.0', before: null, kept: 2, boots: 4 });
  });

  it('is not told to keep it before the person has looked who is asked to', async () => {
    const id = await begin(6);
    await asked(id, 'Open the cover of the gate.');
    gate(6).restart = async function (this: OddGate, into) {
      await OddGate.prototype.restart.call(this, into);
      this.name = 'another';
    };
    await served.client.sayRun(id, 'gate-6', 'done');
    await expect.poll(async () => (await runOf(id)).outcome, { timeout: 60_000 }).toBe('failed');
    gate(6).name = 'gate-6';
    await served.client.sayRun(id, 'gate-6', 'retry');
    await expect.poll(async () => (await runOf(id)).cause?.code, { timeout: 60_000 }).toBe('not-confirmed');
    expect(gate(6)).toMatchObject({ version: '2.0', before: '1.0', kept: 0 });
  });

  it('asks again after the service was killed, and takes no place from others while it waits', async () => {
    const plan = await served.client.plan({ devices: ['gate-3', 'gate-4'], first: 0, atOnce: 1 });
    await served.client.say(plan.id, 'start');
    const asks = async () => (await served.client.rollout(plan.id)).runs.map((r) => r.asks);
    const both = ['Open the cover of the gate.', 'Open the cover of the gate.'];
    await expect.poll(asks, { timeout: 60_000 }).toEqual(both);
    await served.kill();
    served = await serve(data, { args: ['--families', join(dir.path, 'families')], scale: 10 });
    await expect.poll(asks, { timeout: 60_000 }).toEqual(both);
    // Who is left out is not waited for; what is stopped neither.
    await served.client.sayRun(plan.id, 'gate-3', 'skip', { reason: 'nobody is there' });
    await expect
      .poll(async () => (await served.client.rollout(plan.id)).runs.map((r) => r.outcome), { timeout: 60_000 })
      .toContain('skipped');
    await served.client.say(plan.id, 'stop');
    await ended(plan.id);
    expect((await served.client.rollout(plan.id)).runs.map((r) => [r.name, r.outcome])).toEqual([
      ['gate-3', 'skipped'],
      ['gate-4', 'withdrawn'],
    ]);
    expect([gate(3).boots, gate(4).boots]).toEqual([3, 3]);
  });
});

describe('a family file that says what is done by hand, or what falls back', () => {
  const plain = 'change: [{ reboot: 2 s }, { return: 5 s }, { checks: 2 s }, { confirm: 2 s }]';
  it.each([
    ['as it is', oddGateFamily(change), 'fits'],
    ['without words', oddGateFamily(plain.replace('{ confirm', '{ by-hand: 1 min }, { confirm')), 'says in `words` what a person is to do'],
    ['with words elsewhere', oddGateFamily(plain.replace('checks: 2 s', "checks: 2 s, words: 'look'")), 'no other step has any'],
    ['that falls back sooner', oddGateFamily(plain, 'guard: { reverts: 8 s }'), 'it would fall back before that'],
    ['that nobody tells', oddGateFamily(plain.replace(', { confirm: 2 s }', '')), 'no step confirm tells it not to'],
    ['that need not be told', oddGateFamily(plain, ''), 'no `guard` says when it would not'],
  ])('%s', async (_, text, says) => expect(await checkedFamily(text)).toContain(says));
});
