import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { OddGate, oddGateFamily } from './support/odd-gate.js';
import { patient } from './support/odd-gates.js';
import { discover } from './support/scene.js';
import { barrow, folder, serve, type Served } from './support/service.js';

const change = 'change: [{ activate: 2 s }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }]';

describe('a family that was added, and that nobody has seen work', () => {
  const dir = folder();
  const data = join(dir.path, 'data');
  const port = 8241;
  const gates = [1, 2, 3].map((n) => new OddGate(`gate-${n}`, `127.141.1.${n}`, port));
  let served: Served;
  const file = oddGateFamily(change, '', 'activate');
  const runs = async (id: string) => (await served.client.rollout(id)).runs;
  const outcomes = async (id: string) => (await runs(id)).map((r) => r.outcome);
  const unproven = async () => (await served.client.families()).find((f) => f.family === 'odd-gate')!.unproven;
  const asked = async (id: string) => (await runs(id)).filter((r) => r.asksToTell).map((r) => r.asks!);
  const plan = async (devices: string[]) => served.client.plan({ devices, first: 0, atOnce: 3 });
  beforeAll(async () => {
    for (const gate of gates) await gate.start();
    writeFileSync(join(dir.path, 'og1-2.0.bin'), `gate v2.0 \n${'x'.repeat(3000)}`);
    served = await serve(data, { scale: 10 });
    const { client } = served;
    await client.addFamily(file);
    await client.addCredential({ name: 'gates', kind: 'http-basic', user: 'barrow', secret: 'gate-word' });
    const ranges = gates.map((g) => g.address);
    await client.addNetwork({ name: 'odd', site: 'quay-house', ranges, credentials: ['gates'], httpPort: port, trustNow: true });
    await discover(client, ['odd']);
    expect((await barrow(['image', 'add', join(dir.path, 'og1-2.0.bin')], { data })).code).toBe(0);
    await client.setTarget({ family: 'odd-gate', version: '2.0' });
  });
  afterAll(async () => {
    await served?.kill();
    for (const gate of gates) await gate.stop();
    dir.remove();
  });

  it('leaves a device as it is when a person does not want sent what was shown', async () => {
    const { id } = await plan(['gate-3']);
    await served.client.say(id, 'start', { accept: ['unproven'] });
    await expect.poll(() => asked(id), patient).toHaveLength(1);
    await served.client.sayRun(id, 'gate-3', 'skip', { reason: 'not these lines' });
    await expect.poll(() => outcomes(id), patient).toEqual(['skipped']);
    expect(gates[2]).toMatchObject({ boots: 3, version: '1.0', next: null });
  });

  it('is begun only when a person accepts that, and with one device, which the others wait for', async () => {
    expect(await unproven()).toEqual(['OG-1']);
    const { id, hazards } = await plan(['gate-1', 'gate-2', 'gate-3']);
    expect(hazards.map((h) => h.code)).toContain('unproven');
    await expect(served.client.say(id, 'start')).rejects.toMatchObject({
      problem: { detail: expect.stringContaining('unproven') as string },
    });
    await served.client.say(id, 'start', { accept: ['unproven'] });
    // Whoever goes first is shown as it would be, before anything of it is sent; the others are not asked about again.
    await expect.poll(() => asked(id), patient).toHaveLength(1);
    const [words] = await asked(id);
    expect(words).toContain('Nobody has seen the family odd-gate change a device here. This is what it would send to gate-1');
    const heard = async () => (await served.client.run(id, 'gate-1')).events.map((e) => e.event.kind).filter((k) => k.startsWith('person'));
    expect(await heard()).toEqual(['person-asked']);
    expect(words).toMatch(/^ {2}activate\n {4}(POST|PUT) \S+[\s\S]*^ {2}reboot\n {4}POST \S+/m);
    for (const gate of gates) expect(gate).toMatchObject({ boots: 3, version: '1.0', next: null });
    await expect(served.client.sayRun(id, 'gate-1', 'answer', { answer: 'go' })).rejects.toMatchObject({
      problem: { detail: expect.stringContaining('send') as string },
    });
    await served.client.sayRun(id, 'gate-1', 'answer', { answer: 'send' });
    await expect.poll(() => outcomes(id), patient).toEqual(['verified', 'verified', 'verified']);
    expect(await heard()).toEqual(['person-asked', 'person-answered']);
    expect(JSON.stringify(await served.client.report(id))).toContain('answered what was asked for gate-1');
    // Whoever went first had ended before another was touched.
    const all = await Promise.all(['gate-1', 'gate-2', 'gate-3'].map((name) => served.client.run(id, name)));
    const span = all.map(({ events }) => {
      const at = events
        .filter(({ event }) => event.kind === 'stretch-entered' || event.kind === 'step-begun' || event.kind === 'step-done')
        .map((e) => e.seq);
      return [Math.min(...at), Math.max(...at)] as const;
    });
    const [first, ...others] = span.sort((a, b) => a[0] - b[0]);
    for (const [from] of others) expect(from).toBeGreaterThan(first![1]);
  });

  it('can be recorded over its pages, by requests that only read', async () => {
    const path = join(dir.path, 'odd-gate.yaml');
    writeFileSync(path, file.replace(/ {2}record:[\s\S]*? {2}transfer:/, '  transfer:'));
    const said = 'GET /state\n:is name gate-1\n:is serial G-gate-1\n:is firmware 2.0\n:what\n:is\n';
    const done = await barrow(['family', 'record', path, 'record', 'gate-1', '--over', 'web'], { data, input: said });
    expect(done).toMatchObject({ code: 0, out: expect.stringContaining('→ firmware: 2.0') as string });
    expect(done.out).toContain('(:what is not known.)');
    expect(done.out).toContain('(:is takes a name and a value');
    const read = readFileSync(path, 'utf8');
    expect(read).toContain('- get: /state');
    expect(read).toContain('model: OG-1');
    expect(read).not.toContain('shell:');
    const { id } = await served.client.record('gate-1', 'web');
    expect(await served.client.sayIn(id, 'GET /nothing')).toMatchObject({ status: 404 });
    await expect(served.client.sayIn(id, 'FETCH /state')).rejects.toMatchObject({ problem: { code: 'request-malformed' } });
    expect(gates[0]!.boots).toBe(4);
    await served.client.endRecording(id);
    await expect(served.client.sayIn(id, 'GET /state')).rejects.toMatchObject({ problem: { code: 'recording-unknown' } });
  });

  it('can be recorded where it changes something, with how it says no', async () => {
    const path = join(dir.path, 'odd-gate.yaml');
    gates[0]!.jammed = true;
    const said = 'POST /serve\n:no nonsense\n:no activation-refused\nPOST /aside\n';
    const done = await barrow(['family', 'record', path, 'set-aside', 'gate-1', '--over', 'web', '--replace'], { data, input: said });
    gates[0]!.jammed = false;
    expect(done, done.err).toMatchObject({ code: 0, out: expect.stringContaining('(nonsense is no cause') as string });
    expect(gates[0]!.serves).toBe(false);
    gates[0]!.serves = true;
    const read = readFileSync(path, 'utf8').replace(/\s+/g, ' ');
    expect(read).toContain('set-aside: do: - request: /aside method: POST fails: - when: ^jammed cause: activation-refused');
    expect(readFileSync(join(dir.path, 'odd-gate.conversations', 'set-aside.yaml'), 'utf8')).toContain('after: POST /serve');
  });

  it('is proven from then on, over a restart too, until its file says something else', async () => {
    expect(await unproven()).toEqual([]);
    await served.kill();
    served = await serve(data, { scale: 10 });
    expect(await unproven()).toEqual([]);
    gates[1]!.version = '1.0';
    await discover(served.client, ['odd']);
    expect((await plan(['gate-2'])).hazards.map((h) => h.code)).not.toContain('unproven');
    await served.client.addFamily(file.replace('{ reboot: 2 s }', '{ reboot: 3 s }'), true);
    expect(await unproven()).toEqual(['OG-1']);
    expect((await plan(['gate-2'])).hazards.map((h) => h.code)).toContain('unproven');
  });
});
