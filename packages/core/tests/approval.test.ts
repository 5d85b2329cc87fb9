import { describe, expect, it } from 'vitest';
import { isApproved, waitsForApproval, type Approval, type ShownHost } from '@barrow/core';

const approval: Approval = { hostKey: 'SHA256:one', address: '127.40.1.5', family: 'fennwave-controller', at: 0, by: 'mate' };
const host: ShownHost = { hostKey: 'SHA256:one', address: '127.40.1.5', family: 'fennwave-controller' };

describe('an approval', () => {
  it.each<[string, Approval | null, 'ssh' | 'http', ShownHost, boolean]>([
    ['is needed', null, 'ssh', host, false],
    ['fits the host that was seen', approval, 'ssh', host, true],
    ['fits its key at another address', approval, 'ssh', { ...host, address: '127.40.1.9' }, true],
    ['does not fit another key at its address', approval, 'ssh', { ...host, hostKey: 'SHA256:two' }, false],
    ['does not fit a host that shows no key', approval, 'ssh', { ...host, hostKey: null }, false],
    ['without a key fits the address and the family', { ...approval, hostKey: null }, 'ssh', host, true],
    ['without a key does not fit another address', { ...approval, hostKey: null }, 'ssh', { ...host, address: '127.40.1.9' }, false],
    ['fits pages at its address', approval, 'http', host, true],
    ['does not fit pages elsewhere, whatever the key', approval, 'http', { ...host, address: '127.40.1.9' }, false],
    ['does not fit pages of another family', approval, 'http', { ...host, family: 'tollard-base' }, false],
  ])('%s', (_, of, protocol, shown, so) => {
    expect(isApproved(of, protocol, shown)).toBe(so);
  });

  it('is asked for what the host would get to read, and for nothing else', () => {
    const kinds = ['snmp-v2c', 'snmp-v3', 'ssh-password', 'ssh-key', 'http-basic', 'http-digest', 'http-token', 'onvif'];
    expect(kinds.filter(waitsForApproval)).toEqual(['ssh-password', 'http-basic', 'http-token']);
  });
});
