import { createServer, type Server } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Fleet, login, sshPort } from '@barrow/standins';
import { ownNow, ShellSession } from '@barrow/wire';

describe('a shell session', () => {
  const fleet = new Fleet({ timeScale: 100, network: 46, only: ['curlew-sw-1'] });
  const device = fleet.devices[0]!;
  const target = {
    host: device.options.address,
    port: sshPort,
    username: login.user,
    password: login.password,
    hostKey: null,
    readyTimeoutMs: 5000,
  };
  let mute: Server;
  beforeAll(async () => {
    await fleet.start();
    mute = createServer(() => undefined);
    await new Promise<void>((resolve) => mute.listen(2246, '127.46.9.9', resolve));
  });
  afterAll(async () => {
    mute.close();
    await fleet.stop();
  });

  it('tells its host key, takes what it waits for, and says its last words when it waits in vain', async () => {
    const shell = await ShellSession.open(target);
    expect(shell.hostKey).toMatch(/^SHA256:[A-Za-z0-9+/]{43}$/);
    const prompt = (o: string) => (o.endsWith(':: ') ? { found: o, length: o.length } : null);
    expect(await shell.take(prompt, 5000)).toContain('Tarnbrook switch');
    shell.send('nonsense\n');
    expect(await shell.take(prompt, 5000)).toContain('is no word of mine');
    await expect(shell.take(() => null, 50)).rejects.toMatchObject({ fault: 'timeout' });
    shell.send('leave\n');
    await expect(shell.take(() => null, 5000)).rejects.toMatchObject({ fault: 'lost' });
    shell.close();
  });

  it('holds at most 1 MiB of what nobody takes, then cuts the device off and says why', async () => {
    const shell = await ShellSession.open(target);
    const flood = 'x'.repeat(1 << 16);
    for (let i = 0; i < 40 && !shell.closed; i++) {
      shell.send(`${flood}\n`);
      await new Promise((resolve) => setImmediate(resolve));
    }
    await expect(shell.take(() => null, 20_000)).rejects.toMatchObject({
      fault: 'malformed',
      detail: expect.stringContaining('without end') as string,
    });
    expect(() => shell.send('more\n')).toThrow(/without end/);
  });

  it('waits anew whenever something moves, however long that goes on', async () => {
    const shell = await ShellSession.open(target);
    const limit = 1000;
    const begun = ownNow();
    let seen = 0;
    await shell.take((o) => {
      if (o.length === seen) return null;
      seen = o.length;
      if (ownNow() - begun > 2 * limit) return { found: true, length: seen };
      shell.send('nonsense\n');
      return 'moved';
    }, limit);
    expect(ownNow() - begun).toBeGreaterThan(2 * limit);
    shell.close();
  });

  it.each([
    ['a wrong password', { password: 'wrong' }, 'login-refused'],
    ['another host key than the pinned one', { hostKey: 'SHA256:another' }, 'host-key-changed'],
    ['a port where nobody listens', { port: 2299 }, 'refused'],
    ['a port that accepts and never speaks', { host: '127.46.9.9', port: 2246, readyTimeoutMs: 300 }, 'timeout'],
  ])('tells %s apart', async (_, over, fault) => {
    await expect(ShellSession.open({ ...target, ...over })).rejects.toMatchObject({ fault });
  });
});
