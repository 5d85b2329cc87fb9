import { createHash } from 'node:crypto';
import { readFileSync, statSync } from 'node:fs';
import { basename, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { awaitPrompt, loadFamilies, runProcedure, type FamilyWithShell, type ProcedureName } from '@barrow/families';
import { Fleet, login, sshPort, writeScenarioImages } from '@barrow/standins';
import { ShellSession, TftpServer } from '@barrow/wire';
import { folder } from './support/service.js';

const scale = 100;
const cases = [
  {
    device: 'eelgate-sw-3',
    family: 'tarnbrook-access',
    image: 'images/tb24-4.3.0.simg',
    from: '4.2.1',
    to: '4.3.0',
    unsaved: 'port 5 note ticket printer',
  },
  { device: 'quay-rt-1', family: 'wendlock-branch', image: 'images/wr110-R7.04.simg', from: 'R7.02', to: 'R7.04', unsaved: '' },
] as const;

describe.each(cases)('the procedures of $family, on a device', (c) => {
  const fleet = new Fleet({ timeScale: scale, network: c.family === 'wendlock-branch' ? 63 : 64, only: [c.device] });
  const device = fleet.device(c.device);
  const family = loadFamilies().get(c.family) as FamilyWithShell;
  const dir = folder();
  let tftp: TftpServer<string>;
  let given: Record<string, string>;
  let shell: ShellSession;

  const logIn = async () => {
    shell = await ShellSession.open({
      host: device.options.address,
      port: sshPort,
      username: login.user,
      password: login.password,
      hostKey: null,
      readyTimeoutMs: 10_000,
    });
    await awaitPrompt({ family, shell, timeScale: scale });
  };
  const run = (name: ProcedureName, onProgress?: (p: number) => void) =>
    runProcedure(name, { family, shell, given, timeScale: scale, onProgress });

  beforeAll(async () => {
    await fleet.start();
    const path = writeScenarioImages(join(dir.path, 'images')).find((p) => p.endsWith(c.image))!;
    const bytes = statSync(path).size;
    tftp = new TftpServer({ host: '127.0.0.1', port: 0, answer: () => ({ kind: 'send', path, bytes, tag: 'x' }) });
    const { port } = await tftp.start();
    given = {
      imageFile: basename(path),
      imageBytes: String(bytes),
      imageSha256: createHash('sha256').update(readFileSync(path)).digest('hex'),
      imageVersion: c.to,
      storeAddress: '127.0.0.1',
      storePort: String(port),
    };
    await logIn();
  });
  afterAll(async () => {
    shell?.close();
    await tftp?.stop();
    await fleet.stop();
    dir.remove();
  });

  it('record tells what the device is', async () => {
    const { gives } = await run('record');
    expect(gives).toMatchObject({
      model: device.options.model.model,
      variant: '',
      hardwareRevision: device.options.model.hardwareRevision,
      serial: device.options.serial,
      mac: device.options.mac,
      firmware: c.from,
      nextBoot: c.from,
      bootLoader: device.options.model.bootLoader,
      bootCount: String(device.persistent.boots),
      settings: c.unsaved ? 'unkept' : 'kept',
    });
  });

  it('unsaved shows what a reboot would lose, and save keeps it', async () => {
    expect((await run('unsaved')).gives['differences']).toContain(c.unsaved);
    await run('save');
    expect((await run('unsaved')).gives['differences']!.trim()).toBe('');
    expect((await run('record')).gives['settings']).toBe('kept');
  });

  it('configuration tells every line, across pages', async () => {
    const { gives } = await run('configuration');
    expect(gives['text']!.trimEnd().split('\n').slice(1)).toEqual(device.settings);
  });

  it('ready holds, and does not without space', async () => {
    await run('ready');
    device.faults.add('no-space');
    await expect(run('ready')).rejects.toMatchObject({ code: 'no-space' });
    device.faults.delete('no-space');
  });

  it('verify-image and activate refuse what is not there', async () => {
    await expect(run('verify-image')).rejects.toMatchObject({
      code: c.family === 'wendlock-branch' ? 'image-refused' : 'wrong-size-taken',
    });
    expect(device.counters.activations).toBe(0);
  });

  it('transfer brings it, telling how far it is, and a second one finds it there', async () => {
    const told: number[] = [];
    expect((await run('transfer', (p) => told.push(p))).gives['wasThere']).toBe('no');
    expect(told.length).toBeGreaterThan(5);
    expect(told).toEqual([...told].sort((a, b) => a - b));
    expect((await run('transfer')).gives['wasThere']).toBe('yes');
    expect(device.counters).toMatchObject({ pulls: 1, writesDone: 1 });
  });

  it('verify-image tells its digest, activate chooses it, and next-boot says so', async () => {
    expect((await run('verify-image')).gives).toMatchObject({ digest: given['imageSha256'], version: c.to });
    expect((await run('next-boot')).gives['nextBoot']).toBe(c.from);
    await run('activate');
    expect((await run('next-boot')).gives['nextBoot']).toBe(c.to);
    expect(device.counters.activations).toBe(1);
  });

  it('reboot ends the session, and the device comes back on the new version', async () => {
    const boots = device.persistent.boots;
    await run('reboot');
    expect(shell.closed).toBe(true);
    await expect.poll(() => device.state).toBe('up');
    await logIn();
    expect((await run('record')).gives).toMatchObject({ firmware: c.to, nextBoot: c.to, bootCount: String(boots + 1), settings: 'kept' });
  });
});
