import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { LiveEvent, Role } from '@barrow/core';
import { BarrowClient, ProblemError } from '@barrow/client';
import { serve } from './support/service.js';
import { isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

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
    expect(first).toMatchObject({ total: 3, next: first.items[1]!.id });
    const second = await client.devicePage({ limit: 2, cursor: first.next! });
    expect([...first.items, ...second.items].map((d) => d.name)).toEqual(['curlew-sw-1', 'quay-sw-3', 'sandpiper-sw-1']);
    expect(second.next).toBeNull();
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

  it('tells the journal live, and misses nothing across a lost connection and a restart of the service', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['curlew-sw-1', 'sandpiper-sw-1'], first: 1, soakSeconds: 0 });
    const heard: LiveEvent[] = [];
    const stop = new AbortController();
    const until = (kind: string) => heard.some((e) => e.kind === 'journal' && e.entry.event.kind === kind);
    let wake = (): void => undefined;
    const listening = (async () => {
      // The client that listens knows only one address, as a browser does; the service comes back at another port here.
      for (;;) {
        const from = heard.filter((e) => e.kind === 'journal').at(-1);
        const after = from?.kind === 'journal' ? from.entry.seq : plan.journal;
        const here = scene.served.client;
        for await (const event of here.events({ after, signal: stop.signal })) {
          heard.push(event);
          wake();
          if (scene.served.client !== here) break;
        }
        if (stop.signal.aborted) return;
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

  it('a held rollout goes on by a word, a gate waits for a word, and a stop withdraws what has not begun', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-3'], first: 0 });
    await expect(client.say(plan.id, 'hold', { reason: 'x' })).rejects.toBeInstanceOf(ProblemError);
    await client.say(plan.id, 'start');
    await client.say(plan.id, 'stop');
    const ended = await rolloutUntil(client, plan.id, isEnded);
    expect(['withdrawn', 'verified']).toContain(ended.runs[0]!.outcome);
    const retried = await client.sayRun(plan.id, 'quay-sw-3', 'retry').catch((e: ProblemError) => e);
    if (ended.runs[0]!.outcome === 'withdrawn') {
      expect(retried).not.toBeInstanceOf(ProblemError);
      expect((await rolloutUntil(client, plan.id, isEnded)).runs[0]!.outcome).toBe('verified');
    } else expect(retried).toBeInstanceOf(ProblemError);
    expect(scene.fleet.device('quay-sw-3').counters.activations).toBe(1);
  });

  it('keeps who did what', async () => {
    const report = await scene.served.client.report((await scene.served.client.rollouts())[0]!.id);
    expect(report.deeds.map((d) => `${d.by} ${d.what}`)).toContain('first admin started the rollout');
  });
});
