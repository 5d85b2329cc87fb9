import { describe, expect, it } from 'vitest';
import type { CredentialRow } from '../src/data/entities.js';
import { choose } from '../src/touch/choose.js';

const rows = [
  ['word', 'ssh-password'],
  ['key', 'ssh-key'],
  ['page', 'http-digest'],
  ['old', 'ssh-password'],
].map(([id, kind]) => ({ id, kind, name: id }) as unknown as CredentialRow);
const all = new Map(rows.map((r) => [r.id, r]));
const chosen = (use: Partial<Parameters<typeof choose>[1]>, protocol: Parameters<typeof choose>[0] = 'ssh') => {
  const { may, left } = choose(protocol, { all, named: ['word', 'page', 'key'], worked: null, isRefused: () => false, ...use });
  return { may: may.map((c) => c.id), left: left.map((c) => c.id) };
};

describe('what may be tried at a device', () => {
  it('is what its network names, in its order, of the kinds that fit', () => {
    expect(chosen({})).toEqual({ may: ['word', 'key'], left: [] });
    expect(chosen({}, 'http')).toEqual({ may: ['page'], left: [] });
    expect(chosen({}, 'snmp')).toEqual({ may: [], left: [] });
  });
  it('begins with what worked last, once, and never sends what the network does not name', () => {
    expect(chosen({ worked: 'key' }).may).toEqual(['key', 'word']);
    expect(chosen({ worked: 'old' }).may).toEqual(['word', 'key']);
    expect(chosen({ worked: 'gone' }).may).toEqual(['word', 'key']);
    expect(chosen({ worked: 'page' }).may).toEqual(['word', 'key']);
  });
  it('leaves alone what was refused there', () => {
    expect(chosen({ isRefused: (c) => c.id === 'word' })).toEqual({ may: ['key'], left: ['word'] });
    expect(chosen({ isRefused: () => true })).toEqual({ may: [], left: ['word', 'key'] });
  });
});
