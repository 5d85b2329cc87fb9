import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { text } from 'node:stream/consumers';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { oddGateFamily } from './support/odd-gate.js';
import { patient, setGates, type Gates } from './support/odd-gates.js';
import { isEnded, rolloutUntil } from './support/scene.js';

interface Message {
  readonly kind: string;
  readonly lines: readonly string[];
  readonly rollout: { readonly id: string };
}

describe('a rollout that is still under way long after it was to end', () => {
  let here: Gates;
  let web: Server;
  const told: Message[] = [];
  beforeAll(async () => {
    const change = `change: [{ by-hand: 1 min, words: 'Press it.' }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }]`;
    here = await setGates(2, 156, oddGateFamily(change, ''));
    web = createServer((request, response) => {
      void text(request).then((body) => {
        told.push(JSON.parse(body) as Message);
        response.writeHead(204).end();
      });
    });
    await new Promise<void>((resolve) => web.listen(0, '127.0.0.1', resolve));
    const url = `http://127.0.0.1:${(web.address() as AddressInfo).port}/`;
    await here.served.client.addReceiver({ name: 'night', kind: 'hook', to: url, on: ['overdue', 'ended'] });
  });
  afterAll(async () => {
    await here?.served.kill();
    await here?.end();
    web?.closeAllConnections();
    web?.close();
  });

  it('is told of once, before its end is', async () => {
    const { client } = here.served;
    const begin = async (device: string): Promise<string> => {
      const { id } = await client.plan({ devices: [device], first: 0, atOnce: 1 });
      await client.say(id, 'start');
      await expect.poll(async () => (await client.rollout(id)).runs[0]!.asks, patient).not.toBeNull();
      return id;
    };
    // Nobody comes to the first; somebody comes to the second at once.
    const [late, prompt] = [await begin('gate-1'), await begin('gate-2')];
    await client.sayRun(prompt, 'gate-2', 'done');
    await rolloutUntil(client, prompt, isEnded);
    await expect.poll(() => told.map((m) => [m.rollout.id, m.kind]), patient).toContainEqual([late, 'overdue']);
    expect(told.find((m) => m.kind === 'overdue')!.lines[0]).toMatch(/^It was rehearsed to end at \S+, and is still under way\.$/);
    await client.sayRun(late, 'gate-1', 'done');
    expect((await rolloutUntil(client, late, isEnded)).runs[0]!.outcome).toBe('verified');
    await expect.poll(() => told.map((m) => [m.rollout.id, m.kind]), patient).toContainEqual([late, 'ended']);
    const toldOf = (id: string): string[] => told.filter((m) => m.rollout.id === id).map((m) => m.kind);
    expect([toldOf(late), toldOf(prompt).at(-1)]).toEqual([['overdue', 'ended'], 'ended']);
  });
});
