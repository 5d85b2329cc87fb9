import Sqlite from 'libsql';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { LiveEvent, Role } from '@barrow/core';
import { BarrowClient, ProblemError } from '@barrow/client';
import { serve } from './support/service.js';
import { isEnded, loginsOf, prepare, rolloutUntil, type Scene, setScene } from './support/scene.js';

describe('the HTTP interface', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 56, only: ['curlew-sw-1', 'sandpiper-sw-1', 'quay-sw-3'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());
  const get = (path: string, token = scene.served.token) =>
    fetch(`${scene.served.url}${path}`, { headers: { authorization: `Bearer ${token}` } });

  it('lets nobody in without a token, and answers with a problem document (RFC 9457)', async () => {
    for (const path of ['/api/v1/devices', '/api/v1/events', '/api/v1/rollouts/x/report.html']) {
      const answer = await fetch(`${scene.served.url}${path}`);
      expect(answer.status, path).toBe(401);
      expect(answer.headers.get('content-type')).toBe('application/problem+json');
      // A connection is not closed in the very moment in which somebody who is late uses it again.
      expect(answer.headers.get('keep-alive')).toBe('timeout=75');
      expect(await answer.json()).toMatchObject({ code: 'token-refused', status: 401, next: expect.stringContaining('--token') as string });
    }
  });

  it('keeps roles apart', async () => {
    const { client, url } = scene.served;
    const as = async (role: Role) => new BarrowClient({ url, token: (await client.addToken({ name: role, role })).token });
    const [viewer, operator] = [await as('viewer'), await as('operator')];
    expect((await viewer.devices()).length).toBe(3);
    const refused = (work: Promise<unknown>) => expect(work).rejects.toMatchObject({ problem: { code: 'role-too-low', status: 403 } });
    await refused(viewer.plan({}));
    await refused(viewer.addImage({ file: 'x.simg', body: 'x' }));
    await refused(viewer.backups());
    await refused(operator.addCredential({ name: 'x', kind: 'snmp-v2c', secret: 'x' }));
    await refused(operator.addToken({ name: 'x', role: 'admin' }));
    expect((await operator.plan({ devices: ['quay-sw-3'], first: 0 })).createdBy).toBe('operator');
    await client.removeToken('viewer');
    await expect(viewer.devices()).rejects.toMatchObject({ problem: { code: 'token-refused' } });
    await expect(client.removeToken('first admin')).rejects.toMatchObject({ problem: { code: 'last-admin' } });
  });

  it('describes itself, and every described path is there', async () => {
    const document = (await (await fetch(`${scene.served.url}/api/openapi.json`)).json()) as {
      openapi: string;
      paths: Record<string, Record<string, unknown>>;
    };
    expect(document.openapi).toBe('3.1.0');
    expect(Object.keys(document.paths).length).toBeGreaterThan(30);
    for (const [path, methods] of Object.entries(document.paths))
      if ('get' in methods) expect((await get(path.replace(/\{\w+\}/g, 'none'))).status, path).not.toBe(500);
    expect(await (await fetch(`${scene.served.url}/api/docs`)).text()).toContain('/api/v1/rollouts/{id}/rehearsal');
  });

  it('pages and filters on the server', async () => {
    const { client } = scene.served;
    const first = await client.devicePage({ limit: 2 });
    expect(first).toMatchObject({ total: 3, next: expect.any(String) });
    const second = await client.devicePage({ limit: 2, cursor: first.next! });
    expect([...first.items, ...second.items].map((d) => d.name)).toEqual(['curlew-sw-1', 'quay-sw-3', 'sandpiper-sw-1']);
    expect(second.next).toBeNull();
    // The device with which the page ended may be gone meanwhile: the next page begins after where it stood.
    const gone = Buffer.from(JSON.stringify(['quay-house', 'quay-sw-2', 'd-gone'])).toString('base64url');
    expect((await client.devicePage({ cursor: gone })).items.map((d) => d.name)).toEqual(['quay-sw-3', 'sandpiper-sw-1']);
    await expect(client.devicePage({ cursor: 'd-123' })).rejects.toMatchObject({ problem: { status: 400 } });
    expect((await client.devices({ site: 'curlew' })).map((d) => d.name)).toEqual(['curlew-sw-1']);
    expect((await client.devices({ text: 'QUAY' })).map((d) => d.name)).toEqual(['quay-sw-3']);
    expect(await client.devices({ standing: 'at-target' })).toEqual([]);
  });

  it('refuses what it does not understand, with where', async () => {
    const post = (path: string, body: string) =>
      fetch(`${scene.served.url}/api/v1${path}`, {
        method: 'POST',
        body,
        headers: { authorization: `Bearer ${scene.served.token}`, 'content-type': 'application/json' },
      });
    for (const [path, body, where] of [
      ['/networks', '{', ''],
      ['/networks', '{"name":"x"}', 'site'],
      ['/rollouts', '{"atOnce":-1}', 'atOnce'],
      ['/rollouts', '{"colour":"blue"}', 'colour'],
    ] as const) {
      const answer = await post(path, body);
      expect(answer.status, body).toBe(400);
      expect(((await answer.json()) as { detail: string }).detail).toContain(where);
    }
    expect((await get('/api/v1/nothing')).status).toBe(404);
  });

  it('ends the events of a token as soon as it is removed, and keeps who removed it', async () => {
    const { client, url } = scene.served;
    const made = await client.addToken({ name: 'for a while', role: 'viewer' });
    const asIt = (path: string, method = 'GET') =>
      fetch(`${url}/api/v1${path}`, { method, headers: { authorization: `Bearer ${made.token}` } });
    const events = await asIt('/events');
    const reader = events.body!.getReader();
    expect(new TextDecoder().decode((await reader.read()).value)).toContain('event: hello');
    for (let i = 0; i < 3; i++) await asIt('/devices', 'HEAD');
    expect((await asIt('/networks/none', 'DELETE')).status).toBe(403);
    await client.removeToken(made.id);
    const ended = async (): Promise<boolean> => {
      for (;;) if ((await reader.read()).done) return true;
    };
    // Cut off in the middle or ended: nothing more is told.
    expect(await ended().catch(() => true)).toBe(true);
    const db = new Sqlite(join(scene.data, 'barrow.db'), { readonly: true });
    const deeds = db.prepare('select who, method, path from deed').all() as { who: string; method: string; path: string }[];
    db.close();
    expect(deeds.filter((d) => d.who === 'for a while')).toEqual([]);
    expect(deeds).toContainEqual({ who: 'first admin', method: 'DELETE', path: `/api/v1/tokens/${made.id}` });
  });

  it('tells the journal live, and misses nothing across a lost connection and a restart of the service', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['curlew-sw-1', 'sandpiper-sw-1'], first: 1, soakSeconds: 0 });
    const heard: LiveEvent[] = [];
    const stop = new AbortController();
    const until = (kind: string) => heard.some((e) => e.kind === 'journal' && e.entry.event.kind === kind);
    let wake = (): void => undefined;
    const listening = (async () => {
      for await (const event of client.events({ after: plan.journal, signal: stop.signal })) {
        heard.push(event);
        wake();
      }
    })();
    await client.say(plan.id, 'start');
    while (!until('step-done')) await new Promise<void>((resolve) => (wake = resolve));
    await scene.served.kill();
    stop.abort();
    await listening;
    scene.served = await serve(scene.data, { scale: scene.scale });
    await rolloutUntil(scene.served.client, plan.id, isEnded);
    const last = heard.filter((e) => e.kind === 'journal').at(-1);
    const rest: number[] = [];
    const again = new AbortController();
    for await (const event of scene.served.client.events({ after: last?.kind === 'journal' ? last.entry.seq : 0, signal: again.signal })) {
      if (event.kind !== 'journal') continue;
      rest.push(event.entry.seq);
      if (event.entry.event.kind === 'rollout-ended') break;
    }
    again.abort();
    const seqs = [...heard.flatMap((e) => (e.kind === 'journal' ? [e.entry.seq] : [])), ...rest];
    expect(seqs).toEqual(Array.from({ length: seqs.length }, (_, i) => seqs[0]! + i));
  });

  it('a stop withdraws what has not passed its point of no return, and a retry begins it anew', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-3'], first: 0 });
    await expect(client.say(plan.id, 'hold', { reason: 'x' })).rejects.toBeInstanceOf(ProblemError);
    await client.say(plan.id, 'start');
    await client.say(plan.id, 'stop');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.runs[0]).toMatchObject({ outcome: 'withdrawn', pastReturn: false });
    expect(scene.fleet.device('quay-sw-3').counters.activations).toBe(0);
    await expect(client.say(plan.id, 'stop')).rejects.toMatchObject({ problem: { code: 'rollout-not-so' } });
    await client.sayRun(plan.id, 'quay-sw-3', 'retry');
    expect((await rolloutUntil(client, plan.id, isEnded)).runs[0]).toMatchObject({ outcome: 'verified', attempt: 2 });
    await expect(client.sayRun(plan.id, 'quay-sw-3', 'retry')).rejects.toMatchObject({ problem: { code: 'rollout-not-so' } });
  });

  it('keeps who did what', async () => {
    const report = await scene.served.client.report((await scene.served.client.rollouts())[0]!.id);
    expect(report.deeds.map((d) => `${d.by} ${d.what}`)).toContain('first admin started the rollout');
  });
});

describe('the words of a person', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 66, only: ['curlew-sw-1', 'sandpiper-sw-1', 'quay-sw-3'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('a gate waits for its word; held, nothing begins; a device can be left out; and all of it is in the report', async () => {
    const { client } = scene.served;
    const before = loginsOf(scene.fleet);
    const plan = await client.plan({ first: 1, atOnce: 1, soakSeconds: 0, approval: true });
    await client.say(plan.id, 'start');
    const waiting = await rolloutUntil(client, plan.id, (r) => r.waves[0]!.phase === 'soaking');
    const [second, third] = waiting.runs.filter((r) => r.wave === 1).map((r) => r.name);
    await client.say(plan.id, 'hold', { reason: 'tea' });
    await client.say(plan.id, 'approve', { wave: 0 });
    const held = await client.rollout(plan.id);
    expect(held).toMatchObject({ phase: 'held', heldBy: 'first admin', heldBecause: 'tea' });
    expect(held.waves.map((w) => w.phase)).toEqual(['soaking', 'waiting']);
    for (const name of [second!, third!]) expect(scene.fleet.device(name).counters.logins, name).toBe(before.get(name));
    await client.sayRun(plan.id, third!, 'skip', { reason: 'ship is sailing' });
    await client.say(plan.id, 'note', { text: 'spoke with the harbour' });
    await client.say(plan.id, 'continue');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(ended.totals).toMatchObject({ verified: 2, skipped: 1, failed: 0 });
    expect(scene.fleet.device(third!).counters).toMatchObject({ logins: before.get(third!), activations: 0 });
    const told = (await client.report(plan.id)).deeds.filter((d) => d.by === 'first admin').map((d) => d.what);
    expect(told).toEqual([
      'started the rollout',
      'held the rollout: tea',
      'approved wave 1',
      `asked to leave ${third} out: ship is sailing`,
      'noted: spoke with the harbour',
      'continued the rollout',
    ]);
  });
});
