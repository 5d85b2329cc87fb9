import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkedFamily, oddGateFamily } from './support/odd-gate.js';
import { patient, setGates, type Gates } from './support/odd-gates.js';
import type { Served } from './support/service.js';

const change = `change: [{ by-hand: 1 min, words: 'Put it into its boot loader.' }, { transfer: 3 s, restarts: true }, { return: 5 s }, { checks: 2 s }]`;

/** Gates that take an image in their boot loader only. */
const inLoader = (loader: string): string =>
  oddGateFamily(change, '', 'transfer')
    .replace('      transfer: [{ transfer: 2 s }, { verify-image: 2 s }]\n', '')
    .replace('upload: /image, over: http-body, method: PUT', 'upload: og1.bin, over: tftp, as: loader, limit: 20 s')
    .replace('ways:', `faces: { loader: ${loader} }\nways:`);

describe('a family whose boot loader takes the image, at an address that a person tells', () => {
  let here: Gates;
  let served: Served;
  const runOf = async (id: string) => (await served.client.rollout(id)).runs[0]!;
  const asks = async (id: string) => (await runOf(id)).asks;
  const outcome = (id: string) => expect.poll(async () => (await runOf(id)).outcome, patient);
  /** A rollout of one gate, up to where its boot loader has to be found. */
  const upToLoader = async (n: number): Promise<string> => {
    const { id } = await served.client.plan({ devices: [`gate-${n}`], first: 0, atOnce: 1 });
    await served.client.say(id, 'start', { accept: ['all'] });
    await expect.poll(() => asks(id), patient).toBe('Put it into its boot loader.');
    await here.gate(n).intoLoader();
    await served.client.sayRun(id, `gate-${n}`, 'done');
    await expect.poll(() => asks(id), patient).toBe(`At which address does the boot loader of gate-${n} listen now?`);
    return id;
  };
  const say = (id: string, n: number, answer: string) => served.client.sayRun(id, `gate-${n}`, 'answer', { answer });
  beforeAll(async () => {
    here = await setGates(3, 138, inLoader('{ address: told, protocol: tftp, port: 8238 }'));
    served = here.served;
  });
  afterAll(async () => {
    await served?.kill();
    await here?.end();
  });

  it('is sent it there, and is verified where it comes back', async () => {
    here.gate(1).loaderAddress = '127.138.9.1';
    const id = await upToLoader(1);
    await expect(say(id, 1, 'in the cellar')).rejects.toMatchObject({
      problem: { code: 'answer-unfit', detail: expect.stringContaining('An answer looks like 192.0.2.7.') as string },
    });
    await say(id, 1, '127.138.9.1');
    await outcome(id).toBe('verified');
    expect(here.gate(1)).toMatchObject({ version: '2.0', boots: 4 });
  });

  it('says that nobody listened there', async () => {
    const id = await upToLoader(2);
    await say(id, 2, '127.138.9.2');
    await outcome(id).toBe('failed');
    expect((await runOf(id)).cause).toMatchObject({ code: 'loader-silent' });
    expect((await runOf(id)).detail).toContain('nobody took a file by TFTP at 127.138.9.2 port 8238');
    // Retried with the right address, it is done.
    await here.gate(2).outOfLoader('1.0');
    await served.client.sayRun(id, 'gate-2', 'retry');
    await expect.poll(() => asks(id), patient).toBe('Put it into its boot loader.');
    await here.gate(2).intoLoader();
    await served.client.sayRun(id, 'gate-2', 'done');
    await expect.poll(() => asks(id), patient).toContain('At which address');
    await say(id, 2, here.gate(2).address);
    await outcome(id).toBe('verified');
  });

  it('tells in its own words why it does not take it', async () => {
    here.gate(3).full = true;
    const id = await upToLoader(3);
    await say(id, 3, here.gate(3).address);
    await outcome(id).toBe('failed');
    expect(await runOf(id)).toMatchObject({
      cause: { code: 'upload-refused' },
      detail: expect.stringContaining('no room for it') as string,
    });
  });
});

describe('a family file that names a boot loader', () => {
  it('is checked for what does not fit together', async () => {
    expect(await checkedFamily(inLoader('{ address: 192.0.2.1, protocol: tftp }'))).toBe('fits');
    expect(await checkedFamily(inLoader('{ address: there, protocol: tftp }'))).toContain('is an IP address, or `told`');
    expect(await checkedFamily(inLoader('{ address: told, protocol: http }'))).toContain('its boot loader takes files by http');
    expect(
      await checkedFamily(
        oddGateFamily(change, '', 'transfer').replace('ways:', 'faces: { loader: { address: told, protocol: tftp } }\nways:'),
      ),
    ).toContain('nobody meets it so: no upload has `as: loader`');
    expect(await checkedFamily(inLoader('{ address: told, protocol: tftp }').replace(/faces: .*\n/, ''))).toContain(
      '`faces` names no loader',
    );
  });
});
