import { CauseError, type ConsoleAt } from '@barrow/core';
import type { Family, ProcedureName, ProcedureResult } from '@barrow/families';
import type { Context } from '../context.js';
import type { CredentialRow, DeviceRow } from '../data/entities.js';
import type { Logins } from './logins.js';
import { carryOut } from './procedure.js';
import type { Touch } from './touch.js';

/** Nothing comes over a line, or nothing that its family knows: its device does not live, or is not there. */
const silent: ReadonlySet<string> = new Set(['no-answer-in-time', 'unexpected-answer']);

/**
 * Speaks to a device over its console: joins the line, logs in, sees that it is the one, gives it its address again, and leaves the
 * line as it was found.
 *
 * @param server the console server, which is logged in to as any device is
 * @param logins what may be tried at the device, in its order
 * @returns what the device told of itself
 * @throws CauseError `console-unreached`, `console-silent`, `console-refused`, `another-device`, `address-refused`
 */
export async function giveAddress(
  context: Context,
  server: Touch,
  at: { readonly console: ConsoleAt; readonly device: DeviceRow; readonly family: Family; readonly serial: string },
  logins: Pick<Logins, 'credentials' | 'refused'>,
  signal: AbortSignal,
): Promise<ProcedureResult> {
  const { console, device, family } = at;
  const told = (code: 'console-unreached' | 'console-silent' | 'address-refused', error: unknown): Error =>
    error instanceof CauseError ? new CauseError(code, `${console.line} of ${console.name}: ${error.detail}`) : (error as Error);
  try {
    await server.run('join-line');
  } catch (error) {
    throw told('console-unreached', error);
  }
  const shell = await server.shell(signal);
  const said = (name: ProcedureName, given: Readonly<Record<string, string>>, secrets: readonly string[]): Promise<ProcedureResult> =>
    carryOut(context, family, name, { shell, web: null, secrets }, { given, secrets, signal, carry: null, receive: null });
  await enter();
  try {
    const found = await said('record', {}, []);
    const { serial = null } = found.gives;
    if (serial !== at.serial)
      throw new CauseError('another-device', `on ${console.line} of ${console.name} is serial ${serial ?? 'none'}, and not ${at.serial}`);
    await said('give-address', { address: device.address }, []).catch((error: unknown) => {
      throw told('address-refused', error);
    });
    return found;
  } finally {
    // Whoever comes next over this line finds nobody logged in.
    await said('leave-console', {}, []).catch((error: unknown) => {
      if (!(error instanceof CauseError)) throw error;
    });
  }

  async function enter(): Promise<void> {
    const passwords = logins.credentials.filter((c) => c.user !== null && c.kind === 'ssh-password');
    for (const credential of passwords) {
      const word = context.sealer.open(credential.sealed);
      server.hideToo(word);
      try {
        await said('enter-console', { consoleUser: credential.user!, consoleWord: word }, [word]);
        return;
      } catch (error) {
        if (!(error instanceof CauseError)) throw error;
        if (error.code !== 'login-refused') throw told(silent.has(error.code) ? 'console-silent' : 'console-unreached', error);
        await refusedBy(credential);
      }
    }
    throw new CauseError(
      'console-refused',
      `${console.line} of ${console.name}: ${passwords.map((c) => c.name).join(', ') || 'no password is known'}`,
    );
  }

  async function refusedBy(credential: CredentialRow): Promise<void> {
    // The login after a reset is nobody's account.
    if (credential.createdAt > 0) await logins.refused(credential);
  }
}
