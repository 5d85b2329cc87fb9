import { createServer, type AddressInfo } from 'node:net';
import { expect, it } from 'vitest';
import type { Context } from '../src/context.js';
import type { CredentialRow, DeviceRow } from '../src/data/entities.js';
import { Doubts } from '../src/touch/doubts.js';
import { letsIn, type LoginEnd } from '../src/touch/let-in.js';

const credential = { id: 'c1', name: 'ferry-ssh' } as CredentialRow;
const deviceNamed = (name: string): DeviceRow => ({ id: name, name }) as DeviceRow;

/** Devices at which the login had worked, and how each of them answers a try of it now. */
function place(ends: Record<string, LoginEnd>) {
  const asked: string[] = [];
  const devices = Object.keys(ends).map((name) => deviceNamed(name));
  const context = {
    db: {
      // Those at which it worked, but for those that have refused it.
      select: (_: string, [, , besides]: [string, string, string]) =>
        Promise.resolve(devices.filter((d) => !(JSON.parse(besides) as string[]).includes(d.id))),
      findOne: (_: unknown, { id }: { id: string }) => Promise.resolve(devices.find((d) => d.id === id)),
    },
    log: { warn: () => undefined },
  } as unknown as Context;
  const doubts = new Doubts(1000, (_, device) => {
    asked.push(device.name);
    return Promise.resolve(ends[device.name] ?? null);
  });
  return { asked, doubts, refused: (name: string) => doubts.refused(context, credential, 'ssh', deviceNamed(name)) };
}

it('a login that one refuses and another lets in is the fault of the one', async () => {
  const { asked, doubts, refused } = place({ a: 'refused', b: 'opened', c: 'refused' });
  expect(await refused('a')).toBeNull();
  expect(asked).toEqual(['b']);
  expect(doubts.standing('c1')).toBeNull();
  expect(doubts.whyNot('c1')).toBeNull();
});

it('a login that several refuse is in doubt, and tried by one at a time until it is let in', async () => {
  const { asked, doubts, refused } = place({ a: null, b: 'refused', c: null, d: 'refused' });
  const told = await refused('a');
  expect(told).toMatch(/^ferry-ssh had worked and is refused by a, b, d now: /);
  // Who says nothing has refused nobody.
  expect(asked).toEqual(['b', 'c', 'd']);
  expect(doubts.standing('c1')).toBe(told);
  expect(doubts.whyNot('c1')).toBe(told);
  expect(doubts.rests(told!)).toBe(true);
  expect(doubts.rests('another had worked and is refused')).toBe(false);
  // Nobody else is asked once that is known.
  expect(await refused('e')).toMatch(/is refused by a, b, d and 1 more now/);
  expect(asked).toHaveLength(3);
  doubts.forget('c1');
  expect(doubts.whyNot('c1')).toBeNull();
});

it('when its time has come whoever asks first may try it, and then nobody for twice as long', async () => {
  const { doubts, refused } = place({ a: 'refused', b: 'refused', c: 'refused' });
  await refused('a');
  await expect.poll(() => doubts.whyNot('c1'), { timeout: 60_000 }).toBeNull();
  expect(doubts.whyNot('c1')).not.toBeNull();
});

it('several that refuse it at once have it lost, each, as long as another lets it in', async () => {
  const { asked, doubts, refused } = place({ a: null, b: 'refused', c: 'refused', d: 'opened' });
  // They are being changed, all of them.
  doubts.leaveAlone(() => new Map(['a', 'b', 'c'].map((name) => [name, ''])));
  expect(await Promise.all(['a', 'b', 'c'].map(refused))).toEqual([null, null, null]);
  expect(asked).toEqual(['d']);
});

it('two are not several: what nobody else says anything of is the fault of each', async () => {
  const { refused } = place({ a: 'refused', b: 'refused', c: null });
  expect(await Promise.all([refused('a'), refused('b')])).toEqual([null, null]);
});

it('a password is tried at no host that was not approved as it shows itself now', async () => {
  let asked = 0;
  const server = createServer((socket) => {
    asked++;
    socket.destroy();
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const network = { sshPort: (server.address() as AddressInfo).port };
  const context = { db: { keptOne: () => Promise.resolve(network) }, sealer: { open: () => 'word' } } as unknown as Context;
  const password = { ...credential, kind: 'ssh-password', user: 'x', sealed: '', second: null, raise: null, settings: {} } as never;
  const host = { address: '127.0.0.1', hostKey: 'SHA256:a', family: 'f', network: 'n' };
  const approved = { hostKey: 'SHA256:a', address: '127.0.0.1', family: 'f', at: 1, by: 'ana' };
  const tries = async (now: object): Promise<number> => {
    asked = 0;
    expect(await letsIn(context, { ...deviceNamed('a'), ...host, ...now } as never, 'ssh', password)).toBeNull();
    return asked;
  };
  expect(await tries({ approved: null })).toBe(0);
  expect(await tries({ approved, hostKey: 'SHA256:b' })).toBe(0);
  expect(await tries({ approved })).toBe(1);
  server.close();
});
