import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startSshd, type Sshd } from './support/daemons.js';
import { OddGate, oddGateFamily } from './support/odd-gate.js';
import { gateShellPort, setGates, type Gates } from './support/odd-gates.js';
import { isEnded, rolloutUntil } from './support/scene.js';
import { has } from './support/service.js';

/** It is read over its pages; what it holds is looked at over its shell. */
const family = oddGateFamily(
  'change: [{ reboot: 2 s }, { return: 5 s }, { checks: 2 s }]',
  `\nshell: { prompt: '(?:^|\\n)gate-[0-9]> $', limit: 20 s }`,
).replace('  verify-image:\n    do:\n', '$&      - say: echo looked\n');

describe.skipIf(!has('sshd'))('a login over SSH, of a device that is read over its pages', () => {
  let here: Gates;
  const doors: Sshd[] = [];
  beforeAll(async () => {
    // They have one key, as those of one owner do.
    doors.push(await startSshd({ address: '127.155.1.1', port: gateShellPort, prompt: 'gate-1> ' }));
    const { user, privateKey, publicKey } = doors[0]!;
    doors.push(await startSshd({ address: '127.155.1.2', port: gateShellPort, prompt: 'gate-2> ', publicKey }));
    here = await setGates(2, 155, family, [{ name: 'gate-key', kind: 'ssh-key', user, secret: privateKey }], 60);
  });
  afterAll(async () => {
    await here?.served.kill();
    await here?.end();
    for (const door of doors) await door.stop();
  });

  it('is missed when the new version takes it no more, though its pages still do', async () => {
    const { client } = here.served;
    here.gate(1).restart = async function (this: OddGate, into) {
      doors[0]!.forget();
      await OddGate.prototype.restart.call(this, into);
    };
    const plan = await client.plan({ devices: ['gate-1', 'gate-2'], first: 0, atOnce: 2, failureLimit: 100 });
    await client.say(plan.id, 'start', { accept: ['all'] });
    const { runs } = await rolloutUntil(client, plan.id, isEnded);
    expect(runs.map((r) => [r.name, r.outcome, r.cause?.code])).toEqual([
      ['gate-1', 'failed', 'door-login-lost'],
      ['gate-2', 'verified', undefined],
    ]);
    const checked = async (run: string) => (await client.run(plan.id, run)).checks.find((c) => c.name === 'logins');
    expect(await checked('gate-1')).toMatchObject({
      result: 'failed',
      before: 'SSH',
      after: 'none',
      evidence: ['SSH let its login in and does not'],
    });
    expect(await checked('gate-2')).toMatchObject({ result: 'passed', before: 'SSH', after: 'SSH' });
  });
});
