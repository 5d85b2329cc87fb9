import { describe, expect, it } from 'vitest';
import type { DeviceRow } from '../src/data/entities.js';
import { learntOf } from '../src/discovery/placing.js';

const row = (over: Partial<DeviceRow> = {}): DeviceRow =>
  ({
    id: 'd-1',
    name: 'quay-sw-1',
    address: '127.40.1.11',
    firmware: '4.2.1',
    note: '',
    tags: [],
    armed: null,
    hostKey: null,
    byHand: [],
    credentials: { snmp: 'c1' },
    believedBy: { firmware: 'SNMP v2c' },
    flags: [],
    fetchesFrom: [],
    lastSeen: 100,
    ...over,
  }) as DeviceRow;

describe('what a discovery writes of a device', () => {
  const before = row();
  it('is nothing when it learnt nothing', () => expect(learntOf(before, row(), row({ note: 'by the door' }))).toEqual({}));
  it('leaves what others wrote meanwhile: a note, tags, what is armed, a proven version', () => {
    const now = row({
      note: 'by the door',
      tags: ['night'],
      armed: { version: '4.3.0', at: 1, by: 'x' },
      firmware: '4.3.0',
      lastSeen: 300,
    });
    expect(learntOf(before, row({ lastSeen: 200 }), now)).toEqual({ lastSeen: 300 });
  });
  it('is what changed, and only that', () => {
    expect(learntOf(before, row({ address: '127.40.1.99', lastSeen: 200 }), row({ note: 'x' }))).toEqual({
      address: '127.40.1.99',
      lastSeen: 200,
    });
  });
  it('never is what a person set meanwhile', () => {
    expect(learntOf(before, row({ name: 'told' }), row({ name: 'mine', byHand: ['name'] }))).toEqual({});
  });
  it('adds a credential to those that worked meanwhile', () => {
    const now = row({ credentials: { snmp: 'c1', http: 'c3' } });
    expect(learntOf(before, row({ credentials: { snmp: 'c1', ssh: 'c2' } }), now)).toEqual({
      credentials: { snmp: 'c1', http: 'c3', ssh: 'c2' },
    });
  });
  it('pins the first host key, not the second', () => {
    expect(learntOf(before, row({ hostKey: 'SHA256:late' }), row({ hostKey: 'SHA256:first' }))).toEqual({});
    expect(learntOf(before, row({ hostKey: 'SHA256:first' }), row())).toEqual({ hostKey: 'SHA256:first' });
  });
});
