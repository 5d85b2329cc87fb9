import { CauseError } from '@barrow/core';
import { awaitPrompt, raise, type Family, type FamilyWithShell } from '@barrow/families';
import { ShellSession, type ShellEntry } from '@barrow/wire';
import type { Context } from '../context.js';
import type { CredentialRow } from '../data/entities.js';
import { sshTargetOf } from './access.js';
import { concealed } from './procedure.js';
import { hideSecrets, hideWords, withoutSecrets } from './secrets.js';

/** A shell that let us in. */
export interface OpenShell {
  readonly shell: ShellSession;
  /** What the login is made of; none of it may stand anywhere. */
  readonly secrets: readonly string[];
}

/** Logs in at an address with one credential, and asks for more rights where the family needs them. @throws CauseError */
export async function openShell(
  context: Context,
  at: { readonly host: string; readonly port: number; readonly hostKey: string | null },
  family: FamilyWithShell,
  credential: CredentialRow,
  signal?: AbortSignal,
): Promise<OpenShell> {
  const target = sshTargetOf(context, credential, at);
  const isKey = credential.kind === 'ssh-key';
  const own = isKey ? credential.raise : credential.second;
  const word = own === null ? null : context.sealer.open(own);
  const secrets = [target.password, target.passphrase, word].filter((s): s is string => s != null);
  let shell: ShellSession | null = null;
  try {
    shell = await ShellSession.open(target);
    await awaitPrompt({ family, shell, timeScale: context.options.timeScale, signal });
    if (family.shell.raise) {
      if (word === null)
        throw new CauseError('no-credential', `credential ${credential.name} has no second word, which this family asks for`);
      const opened = shell;
      await raise({ family, shell, timeScale: context.options.timeScale, signal }, word, (hide) =>
        opened.conceal(hide ? '‹the second word›\n' : null),
      );
    }
    return { shell, secrets };
  } catch (error) {
    shell?.close();
    throw withoutSecrets(error, family, secrets);
  }
}

/** What was said over a shell, with what is secret in it hidden. */
export function saidOver({ shell, secrets }: OpenShell, family: Family, more: readonly string[] = []): string {
  const text = shell.conversation.map((e: ShellEntry) => (e.from === 'device' ? e.text : e.text === concealed ? e.text : '')).join('');
  // Words before line ends: a carriage return tells where the terminal wrapped an echo.
  return hideSecrets(hideWords(text, [...secrets, ...more]).replace(/\r/g, ''), family);
}
