import { describe, expect, it } from 'vitest';
import type { Context } from '../src/context.js';
import type { DeviceRow } from '../src/data/entities.js';
import { Approvals } from '../src/devices/approvals.js';

const waiting = { flag: 'awaiting-approval', other: null, detail: 'ferry-ssh was not sent', at: 5 };
const row = (more: Partial<DeviceRow>): DeviceRow =>
  ({
    id: 'd-1',
    name: 'quay-sw-1',
    site: 'quay-house',
    network: 'n-1',
    address: '127.40.1.11',
    hostKey: 'SHA256:one',
    family: 'tarnbrook-access',
    familyEvidence: 'its description',
    approved: null,
    flags: [waiting],
    ...more,
  }) as unknown as DeviceRow;
const of = (...rows: DeviceRow[]): Approvals => new Approvals({ db: { find: () => Promise.resolve(rows) } } as unknown as Context);
const approved = (more = {}) => ({
  address: '127.40.1.11',
  hostKey: 'SHA256:one',
  family: 'tarnbrook-access',
  at: 1,
  by: 'first admin',
  ...more,
});

describe('hosts that wait for an approval', () => {
  it('are those that are marked, with what they show', async () => {
    expect(await of(row({}), row({ id: 'd-2', flags: [] })).waiting()).toMatchObject([
      { device: 'd-1', address: '127.40.1.11', hostKey: 'SHA256:one', family: 'tarnbrook-access', since: '1970-01-01T00:00:00.005Z' },
    ]);
  });

  it('are not those that were approved while a discovery that had begun before left its mark', async () => {
    expect(await of(row({ approved: approved() })).waiting()).toEqual([]);
  });

  it('are those that show something else than was approved', async () => {
    for (const other of [{ hostKey: 'SHA256:two' }, { address: '127.40.1.12' }])
      expect(await of(row({ approved: approved(other) })).waiting(), JSON.stringify(other)).toHaveLength(1);
  });
});
