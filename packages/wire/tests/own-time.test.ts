import { createSocket } from 'node:dgram';
import { spawn } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import { describe, expect, it } from 'vitest';
import { ownMissed, ownNow, ownPause, ownTimeout, Patience } from '@barrow/wire';
import { stall } from '../../../tests/support/stall.js';

describe('our own time', () => {
  it('stands still while we do, and tells what was missed', async () => {
    await ownPause(1);
    const [own, missed, wall] = [ownNow(), ownMissed(), performance.now()];
    stall(1500);
    const passed = performance.now() - wall;
    expect(ownNow() - own).toBeLessThan(400);
    expect(ownMissed() - missed).toBeGreaterThan(passed - 400);
  });

  it('does not end a wait before what has come meanwhile was heard', async () => {
    const socket = createSocket('udp4');
    await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
    const order: string[] = [];
    socket.on('message', () => order.push('heard'));
    const ended = new Promise<void>((resolve) =>
      ownTimeout(() => {
        order.push('gave up');
        resolve();
      }, 100),
    );
    // The answer lies in the buffer, and the timer is long due, when this thread is let go.
    const sender = createSocket('udp4');
    await new Promise<void>((resolve) => sender.send('x', socket.address().port, '127.0.0.1', () => resolve()));
    stall(800);
    await ended;
    expect(order).toEqual(['heard', 'gave up']);
    socket.close();
    sender.close();
  });

  it('can be taken back, and ends a pause early when it is told to', async () => {
    let called = false;
    ownTimeout(() => (called = true), 5).cancel();
    const stop = new AbortController();
    const paused = ownPause(60_000, stop.signal);
    stop.abort();
    await paused;
    await ownPause(60_000, stop.signal);
    await ownPause(20);
    expect(called).toBe(false);
  });

  it('keeps no process alive', async () => {
    const wire = fileURLToPath(new URL('../dist/index.js', import.meta.url));
    const child = spawn(process.execPath, ['--input-type=module', '-e', `import { ownNow } from ${JSON.stringify(wire)}; ownNow();`]);
    expect(await new Promise((resolve) => child.once('exit', resolve))).toBe(0);
  });
});

describe('patience', () => {
  it('is the wish at least, grows with what was measured, and with each try', () => {
    const patience = new Patience();
    expect(patience.wait(500, 0)).toBe(1000);
    expect(patience.wait(2000, 0)).toBe(2000);
    expect(patience.wait(1000, 2)).toBe(2250);
    // RFC 6298 §2.2: the first round trip R gives R + 4 × R/2.
    patience.measured(1000);
    expect(patience.wait(500, 0)).toBe(3000);
    for (let i = 0; i < 100; i++) patience.measured(20);
    expect(patience.wait(500, 0)).toBe(500);
    expect(patience.wait(5000, 6)).toBe(8000);
  });
});
