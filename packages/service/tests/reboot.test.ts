import { beforeEach, describe, expect, it, vi } from 'vitest';
import { CauseError, type CauseCode } from '@barrow/core';
import { reboot } from '../src/runner/steps/reboot.js';
import { askRestarted } from '../src/runner/reconcile.js';

vi.mock('../src/runner/reconcile.js', () => ({ askRestarted: vi.fn() }));
vi.mock('../src/runner/outlooks.js', () => ({ outlookNow: () => Promise.resolve({}) }));

/** A device that takes the restart, or ends the message with a cause; in the order of the messages. */
function device(...messages: (CauseCode | null)[]) {
  let logins = 0;
  let told = 0;
  const step = {
    trail: new Map(),
    login: () => {
      logins++;
      return Promise.resolve({
        run: (procedure: string) => {
          expect(procedure).toBe('reboot');
          const cause = messages[told++];
          return cause ? Promise.reject(new CauseError(cause, 'the session ended')) : Promise.resolve({ gives: {} });
        },
      });
    },
  };
  return { run: () => reboot(step as never), count: () => ({ logins, told }) };
}
const restarted = (truth: 'done' | 'not-done') => vi.mocked(askRestarted).mockResolvedValue({ truth, detail: `asked: ${truth}` } as never);

/** Barrow may be stopped between the two messages of a restart, until the device ends the session. */
describe('a restart whose session ends between its messages', () => {
  beforeEach(() => vi.mocked(askRestarted).mockReset());

  it('is told once more when the device has not restarted', async () => {
    restarted('not-done');
    const it = device('session-lost', null);
    expect(await it.run()).toMatchObject({ kind: 'done' });
    expect(it.count()).toEqual({ logins: 2, told: 2 });
  });
  it('is not told again when the device has restarted', async () => {
    restarted('done');
    const it = device('session-lost');
    expect(await it.run()).toMatchObject({ kind: 'done' });
    expect(it.count()).toEqual({ logins: 1, told: 1 });
  });
  it('fails when the session ends a second time, and the device stays up', async () => {
    restarted('not-done');
    const it = device('session-lost', 'session-lost', null);
    await expect(it.run()).rejects.toMatchObject({ code: 'reboot-not-begun', detail: 'the session ended; asked: not-done' });
    expect(it.count().told).toBe(2);
  });
  it('goes on to the wait for the return when the device went silent', async () => {
    restarted('done');
    expect(await device('no-answer-in-time').run()).toMatchObject({ kind: 'done' });
  });
  it('is not told again after words that the family does not know', async () => {
    restarted('not-done');
    const it = device('no-answer-in-time', null);
    await expect(it.run()).rejects.toMatchObject({ code: 'reboot-not-begun' });
    expect(it.count().told).toBe(1);
  });
  it('passes every other failure on', async () => {
    await expect(device('login-refused').run()).rejects.toMatchObject({ code: 'login-refused' });
    expect(askRestarted).not.toHaveBeenCalled();
  });
});
