import type { Bringing, Claim } from '@barrow/core';
import { beforeEach, describe, expect, it } from 'vitest';
import { Holdings } from '../src/runner/holdings.js';
import { DeliveryQueue } from '../src/staging/delivery-queue.js';

const turn = (): Promise<void> => new Promise((done) => setImmediate(done));

describe('what brings images ahead', () => {
  let holdings: Holdings;
  let queue: DeliveryQueue;
  const begun: string[] = [];
  beforeEach(() => {
    begun.length = 0;
    holdings = new Holdings();
    queue = new DeliveryQueue(holdings, (id) => void begun.push(id));
  });
  const of = (n: number, over: Partial<Bringing> = {}): Bringing => ({
    id: `d-${n}`,
    name: `the staging on sw-${n}`,
    holder: `sw-${n}`,
    site: 'quay',
    image: 'a'.repeat(64),
    under: [`sw-${n}`, 'core'],
    overLink: false,
    ...over,
  });
  const many = (count: number, over: Partial<Bringing> = {}): Bringing[] => Array.from({ length: count }, (_, i) => of(i, over));
  const rollout = { rollout: 'r-1', run: 'x' };
  const hold = (...claims: Claim[]): void => holdings.ledger.hold(rollout, claims);

  it('goes to eight at once, in their order, the next as soon as one has ended, however', async () => {
    queue.add(many(20));
    expect(begun).toEqual([]);
    queue.look();
    expect(begun).toEqual(many(8).map((b) => b.id));
    expect(queue.waits('d-9')).toBe('waits for its turn: 8 at once');
    expect(queue.waits('d-3')).toBeNull();
    queue.ended('d-3', null);
    queue.ended('d-5', 'no-space');
    await turn();
    expect(begun.slice(8)).toEqual(['d-8', 'd-9']);
    for (const { id } of many(20)) {
      queue.ended(id, null);
      await turn();
    }
    expect(begun).toHaveLength(20);
    expect(holdings.ledger.holdersOf('up:core')).toEqual([]);
  });

  it('goes to two at once over a link that is shared, and to one at a time of one holder', () => {
    queue.add([...many(4, { overLink: true }), of(7, { holder: 'sw-0', site: 'reach' }), of(8, { holder: 'sw-8', site: 'reach' })]);
    queue.look();
    expect(begun).toEqual(['d-0', 'd-1', 'd-8']);
    expect(queue.waits('d-2')).toBe('waits for its turn: 2 at once over the link of quay');
    expect(queue.waits('d-7')).toBe('waits for the staging on sw-0, which has it in hand');
  });

  it('waits while a rollout takes down what it hangs on, and keeps rollouts from that while it writes', async () => {
    hold({ key: 'up:core', mode: 'exclusive' });
    queue.add(many(2));
    queue.look();
    expect(begun).toEqual([]);
    holdings.nameBy(({ run }) => (run === 'x' ? 'core' : null));
    expect(queue.waits('d-0')).toBe('waits for core, on which it hangs, to be back');
    holdings.ledger.release(rollout);
    holdings.letGo();
    await turn();
    expect(begun).toEqual(['d-0', 'd-1']);
    expect(holdings.ledger.lacks([{ key: 'up:core', mode: 'exclusive' }], rollout)).not.toBeNull();
    expect(holdings.nameOf(holdings.ledger.holdersOf('up:core')[0]!)).toBe('the staging on sw-0');
    queue.leave('d-0', 'stopped');
    queue.ended('d-1', null);
    expect(holdings.ledger.lacks([{ key: 'up:core', mode: 'exclusive' }], rollout)).toBeNull();
  });

  it('leaves one that waits, takes those out that shall wait anew, and takes one again that failed', async () => {
    queue.add(many(10));
    queue.look();
    queue.leave('d-8', 'stopped by a person');
    expect(queue.takeOut(() => true)).toEqual(['d-9']);
    queue.ended('d-0', 'no-space');
    await turn();
    expect(begun).toHaveLength(8);
    queue.add([of(0), of(9)]);
    queue.look();
    expect(begun.slice(8)).toEqual(['d-0']);
    queue.ended('d-1', null);
    await turn();
    expect(begun.slice(8)).toEqual(['d-0', 'd-9']);
    queue.ended('unknown', null);
  });

  it('begins nothing any more once the service is being stopped', () => {
    queue.add(many(3));
    queue.stop();
    queue.look();
    expect(begun).toEqual([]);
  });
});
