import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import { createSocket } from 'node:dgram';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { community, Fleet, inspectImage, makeImage, openControl, snmpPort } from '@barrow/standins';
import { has } from '../../../tests/support/service.js';

const recipe = { maker: 'Tarnbrook', models: ['TB-2408'], hardwareRevisions: ['A1'], version: '4.3.0', payloadBytes: 5000 };

describe('images of the fleet', () => {
  it('are the same for the same recipe, and found damaged when one bit is', () => {
    const image = makeImage(recipe);
    expect(makeImage(recipe).equals(image)).toBe(true);
    expect(inspectImage(image)).toMatchObject({ fault: null, version: '4.3.0' });
    image[image.length - 5]! ^= 4;
    expect(inspectImage(image).fault).toBe('damaged, digest differs');
    expect(inspectImage(image.subarray(0, 3000)).fault).toMatch(/^damaged, \d+ of 5000 octets$/);
    expect(inspectImage(Buffer.from('<html>')).fault).toBe('not an image');
  });
});

describe('a simulated device', () => {
  const fleet = new Fleet({ timeScale: 200, network: 47, only: ['curlew-sw-1', 'quay-rt-1'] });
  const device = fleet.device('curlew-sw-1');
  beforeAll(() => fleet.start());
  afterAll(() => fleet.stop());

  it.skipIf(!has('snmpwalk'))("speaks SNMP as Debian's snmpwalk understands it, and not to strangers", async () => {
    const run = promisify(execFile);
    const at = `${device.options.address}:${snmpPort}`;
    const walk = async (root: string) => (await run('snmpwalk', ['-v2c', '-c', community, '-On', at, root])).stdout;
    expect(await walk('1.3.6.1.2.1.1')).toContain('.1.3.6.1.2.1.1.5.0 = STRING: "curlew-sw-1"');
    const entity = await walk('1.3.6.1.2.1.47.1.1.1');
    for (const value of ['TB-2408', 'A2', '4.2.1', device.options.serial]) expect(entity).toContain(`"${value}"`);
    await expect(run('snmpget', ['-v2c', '-c', 'guess', '-t', '0.3', '-r', '0', at, '1.3.6.1.2.1.1.5.0'])).rejects.toThrow('Timeout');
  });

  it('survives noise at its SNMP port', async () => {
    const socket = createSocket('udp4');
    for (let i = 0; i < 50; i++) socket.send(Buffer.from([0x30, i, 0x02, 0x01, i, 0x04, 0xff]), snmpPort, device.options.address);
    await new Promise<void>((resolve) => socket.send('end', snmpPort, device.options.address, () => resolve()));
    socket.close();
    expect(device.state).toBe('up');
  });

  it('counts a loss of power in the middle of a write, and keeps a torn slot it will not start', async () => {
    const writing = device.write('2', makeImage({ ...recipe, hardwareRevisions: ['A2'] }), (p) => p === 40 && device.losePower());
    void writing;
    await expect.poll(() => device.state === 'up' && device.counters.powerLosses === 1).toBe(true);
    expect(device.counters).toMatchObject({ writesBegun: 1, writesDone: 0, restartsInWrite: 1 });
    expect(device.persistent.store[1]?.fault).toBe('torn write');
    device.choose('2');
    device.restart();
    await expect.poll(() => device.state === 'up' && device.counters.reboots === 1).toBe(true);
    expect(device.running.version).toBe('4.2.1');
  });

  it('takes faults by name through its control door, and refuses others', async () => {
    const { url, server } = await openControl(fleet);
    expect((await fetch(`${url}/curlew-sw-1/no-space`, { method: 'PUT' })).status).toBe(200);
    expect(device.freeBytes).toBe(4096);
    expect((await fetch(`${url}/curlew-sw-1/no-space`, { method: 'DELETE' })).status).toBe(200);
    const refused = await fetch(`${url}/curlew-sw-1/no-such`, { method: 'PUT' });
    expect(refused.status).toBe(400);
    expect(await refused.text()).toContain('there is no fault no-such');
    expect((await (await fetch(url)).json()) as unknown[]).toHaveLength(2);
    server.close();
  });
});

describe('a device behind pages', () => {
  const fleet = new Fleet({ timeScale: 200, network: 118, only: ['quay-cam-1'] });
  const camera = fleet.fixture('quay-cam-1');
  const image = makeImage({ maker: 'Owlpane', models: ['OC-400'], hardwareRevisions: ['R2'], version: '2.12.0', payloadBytes: 4096 });
  beforeAll(() => fleet.start());
  afterAll(() => fleet.stop());

  it('whose power goes in the middle of a write starts what it ran, and counts it', async () => {
    const { url, server } = await openControl(fleet);
    void camera.install('next.simg', image);
    await expect.poll(() => camera.writing).toBe(true);
    expect((await fetch(`${url}/quay-cam-1/power-loss`, { method: 'POST' })).status).toBe(200);
    await expect.poll(() => camera.state).toBe('up');
    expect(camera.facts.firmware).toBe('2.11.3');
    expect(camera.counters).toMatchObject({ writesBegun: 1, writesDone: 0, restartsInWrite: 1, powerLosses: 1 });
    server.close();
  });

  it('that was switched off and on writes as before, refuses what is not for it, and starts what it was given', async () => {
    await fleet.stop();
    await fleet.start();
    await expect(camera.install('other.simg', makeImage({ ...recipe, version: '9.9.9' }))).rejects.toThrow(/for model TB-/);
    await camera.install('next.simg', image);
    camera.restart();
    await expect.poll(() => camera.state === 'up' && camera.facts.firmware).toBe('2.12.0');
    expect(camera.counters).toMatchObject({ writesDone: 1, reboots: 1 });
  });
});
