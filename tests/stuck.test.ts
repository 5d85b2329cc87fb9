import { createHash } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import { closeSync, mkdirSync, openSync, rmSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import Sqlite from 'libsql';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { barrow, folder, serve } from './support/service.js';
import { isEnded, prepare, rolloutUntil, setScene, type Scene } from './support/scene.js';

const mayMount = process.platform === 'linux' && process.getuid?.() === 0;

/** Takes all the room that is left on the disk of a file. */
function fill(path: string): void {
  const file = openSync(path, 'a');
  try {
    for (const size of [1 << 20, 1 << 12, 1 << 8]) for (;;) if (!takes(file, Buffer.alloc(size))) break;
  } finally {
    closeSync(file);
  }
}

function takes(file: number, piece: Buffer): boolean {
  try {
    return writeSync(file, piece) === piece.length;
  } catch (error) {
    expect((error as NodeJS.ErrnoException).code).toBe('ENOSPC');
    return false;
  }
}

describe.skipIf(!mayMount)('a disk that is full', () => {
  let scene: Scene;
  const disk = folder();
  beforeAll(async () => {
    mkdirSync(join(disk.path, 'disk'));
    execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=48m', 'tmpfs', join(disk.path, 'disk')]);
    scene = await setScene({ network: 104, only: ['quay-sw-1', 'quay-sw-2'], data: join(disk.path, 'disk', 'data') });
    await prepare(scene);
  });
  afterAll(async () => {
    await scene?.end();
    execFileSync('umount', ['-l', join(disk.path, 'disk')]);
    disk.remove();
  });

  it('stops nothing for ever: it is said, nothing new begins, and it goes on by itself when there is room', async () => {
    const { client } = scene.served;
    const plan = await client.plan({ devices: ['quay-sw-1', 'quay-sw-2'], first: 1, atOnce: 1, soakSeconds: 0 });
    const stop = new AbortController();
    const filler = join(disk.path, 'disk', 'filler');
    await client.setDevice('quay-sw-2', { note: 'kept while there is room' });
    await client.say(plan.id, 'start');
    await rolloutUntil(client, plan.id, (r) => r.runs.some((x) => x.step === 'transfer'));
    // What the service gives back to the disk meanwhile is taken, too.
    const shown = async (): Promise<boolean> => {
      fill(filler);
      return (await barrow(['rollout', 'show', plan.id], { data: scene.data })).out.includes('Make room there');
    };
    await expect.poll(shown, { timeout: 120_000 }).toBe(true);
    fill(filler);
    expect((await client.health()).troubles[0]).toMatchObject({
      code: 'journal-not-written',
      what: expect.stringContaining('nothing is begun'),
    });
    const refused = await barrow(['rollout', 'hold', plan.id], { data: scene.data });
    expect(refused.code).toBe(1);
    expect(refused.err).toMatch(/It was not kept, and nothing was done[\s\S]*Make room/);
    // A change is kept with its audit entry, or refused in words.
    let kept = 1;
    const change = (): Promise<string> => {
      fill(filler);
      return client.setDevice('quay-sw-2', { note: `${kept} `.padEnd(900, 'by the stairs, ') }).then(
        () => `kept ${++kept}`,
        (error: { problem: { status: number; code: string } }) => `${error.problem.status} ${error.problem.code}`,
      );
    };
    await expect.poll(change, { timeout: 60_000 }).toBe('507 disk-full');
    rmSync(filler);
    const ended = await rolloutUntil(client, plan.id, isEnded);
    stop.abort();
    expect(ended.totals).toMatchObject({ verified: 2, failed: 0 });
    expect((await client.health()).troubles).toEqual([]);
    const audited = async (): Promise<number> =>
      (await client.deeds({ most: 500 })).items.filter((d) => d.path.endsWith('/devices/quay-sw-2')).length;
    await expect.poll(audited).toBe(kept);
    for (const name of ['quay-sw-1', 'quay-sw-2']) expect(scene.fleet.device(name).counters).toMatchObject({ activations: 1, reboots: 1 });
  });
});

describe('a journal that says what cannot be', () => {
  let scene: Scene;
  beforeAll(async () => {
    scene = await setScene({ network: 105, only: ['quay-sw-1', 'quay-sw-2'] });
    await prepare(scene);
  });
  afterAll(() => scene?.end());

  it('keeps neither the service from starting nor a page from opening, and the devices can be released', async () => {
    const { client } = scene.served;
    const first = await client.plan({ devices: ['quay-sw-1'], first: 0 });
    const second = await client.plan({ devices: ['quay-sw-2'], first: 0 });
    const unread = await client.plan({ devices: ['quay-sw-2'], first: 0, name: 'unread' });
    const unknown = await client.plan({ devices: ['quay-sw-2'], first: 0 });
    await client.say(first.id, 'start');
    await rolloutUntil(client, first.id, isEnded);
    await scene.served.kill();
    const db = new Sqlite(join(scene.data, 'barrow.db'));
    const add = (id: string, seq: number, event: object): void =>
      void db.prepare('insert into journal (seq, rollout, at, event) values (?, ?, 1, ?)').run(seq, id, JSON.stringify(event));
    // Somebody changed what was written: the moment at which it was startedIn.
    const { startedIn } = db.prepare('select min(seq) as startedIn from journal where rollout = ?').get(first.id) as { startedIn: number };
    db.prepare(`update journal set event = json_replace(event, '$.at', 1) where seq = ?`).run(startedIn);
    add(second.id, 90_002, { kind: 'rollout-started', at: 1, by: 'x' });
    add(second.id, 90_003, { kind: 'step-done', at: 1, run: second.runs[0]!.id, step: 'checks' });
    // One that is chained as Barrow does, and says what this Barrow does not know.
    const strange = JSON.stringify({ kind: 'run-painted', at: 1 });
    const chain = createHash('sha256').update(`\n90004\n${strange}`).digest('hex');
    db.prepare('insert into journal (seq, rollout, at, event, chain) values (90004, ?, 1, ?, ?)').run(unknown.id, strange, chain);
    db.prepare(`update rollout set plan = '{"version":2,"runs":7}' where id = ?`).run(unread.id);
    db.close();
    scene.served = await serve(scene.data, { scale: scene.scale });
    const again = scene.served.client;
    for (const [{ id }, why] of [
      [first, `Entry ${startedIn} of its journal is not as Barrow wrote it`],
      [second, 'Entry 90003 of its journal says "step-done", and that cannot be'],
      [unknown, 'Entry 90004 of its journal cannot be read'],
    ] as const) {
      expect((await again.rollout(id)).trouble).toMatchObject({
        code: 'rollout-faulty',
        why: expect.stringContaining(why) as string,
      });
      expect((await again.report(id)).rollout.id).toBe(id);
    }
    expect(await again.rollout(unread.id)).toMatchObject({
      name: 'unread',
      runs: [],
      trouble: { code: 'rollout-faulty', why: expect.stringMatching(/^Its plan cannot be read/) },
    });
    expect((await barrow(['rollout', 'discard', unread.id], { data: scene.data })).code).toBe(0);
    const refused = await barrow(['rollout', 'continue', second.id], { data: scene.data });
    expect(refused.code).toBe(4);
    expect(refused.err).toContain('This rollout cannot go on');
    expect(scene.fleet.device('quay-sw-2').counters.activations).toBe(0);
    const third = await again.plan({ devices: ['quay-sw-2'], first: 0, soakSeconds: 0 });
    expect((await barrow(['rollout', 'start', third.id], { data: scene.data })).err).toContain('Devices are in another rollout');
    for (const { id } of [second, unknown]) expect((await barrow(['rollout', 'discard', id], { data: scene.data })).code).toBe(0);
    // Two that begin in the same moment do not take the same device.
    const fourth = await again.plan({ devices: ['quay-sw-2'], first: 0, soakSeconds: 0 });
    const begun = await Promise.allSettled([third, fourth].map((p) => again.say(p.id, 'start')));
    expect(begun.map((b) => b.status).sort()).toEqual(['fulfilled', 'rejected']);
    const [running] = [third, fourth].filter((_, i) => begun[i]!.status === 'fulfilled');
    expect((await rolloutUntil(again, running!.id, isEnded)).totals).toMatchObject({ verified: 1 });
    expect(scene.fleet.device('quay-sw-2').counters).toMatchObject({ activations: 1, reboots: 1 });
  });
});
