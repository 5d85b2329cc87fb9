import { CauseError } from '@barrow/core';
import {
  asCause,
  awaitPrompt,
  raise,
  runProcedure,
  type Family,
  type FamilyWithShell,
  type ProcedureName,
  type ProcedureResult,
  type ProcedureRun,
} from '@barrow/families';
import { ShellSession, type ShellEntry } from '@barrow/wire';
import type { Context } from '../context.js';
import { sparing } from '../devices/approvals.js';
import { hideSecrets, hideWords, withoutSecrets } from './secrets.js';
import { CredentialEntity, DeviceEntity, NetworkEntity, type CredentialRow, type DeviceRow } from '../data/entities.js';

const handshakeMs = 10_000;
/** Stands in a conversation where a device told its settings. */
const concealed = '‹the settings, kept sealed as a backup›\n';
const longestConversation = 64 * 1024;

interface SessionUse {
  readonly given?: Readonly<Record<string, string>>;
  readonly signal?: AbortSignal;
  readonly onProgress?: ((percent: number) => void) | undefined;
  readonly carry?: ProcedureRun['carry'];
  readonly receive?: ProcedureRun['receive'];
}

/** A login on a device, by its family's procedures. */
export class DeviceSession {
  private constructor(
    private readonly shell: ShellSession,
    private readonly family: FamilyWithShell,
    private readonly timeScale: number,
    private readonly given: Readonly<Record<string, string>>,
    private readonly signal: AbortSignal | undefined,
    private readonly onProgress: ((percent: number) => void) | undefined,
    private readonly carry: ProcedureRun['carry'],
    private readonly receive: ProcedureRun['receive'],
    /** What the login is made of; none of it may stand anywhere. */
    private readonly secrets: readonly string[],
  ) {}

  /**
   * Logs in with the credential that worked last, then with the SSH credentials of the device's network in their order.
   * A host key seen for the first time is pinned; another one later is refused. Passwords go only to approved hosts.
   * @throws CauseError
   */
  static async open(context: Context, device: DeviceRow, family: FamilyWithShell, use: SessionUse = {}): Promise<DeviceSession> {
    const [network, all, row] = await Promise.all([
      context.db.findOne(NetworkEntity, { name: device.network }),
      context.db.find(CredentialEntity, { kind: { $in: ['ssh-password', 'ssh-key'] } }),
      context.db.findOne(DeviceEntity, { id: device.id }),
    ]);
    const order = new Set([...(row?.credentials['ssh'] ? [row.credentials['ssh']] : []), ...(network?.credentials ?? [])]);
    const credentials = [...order].flatMap((id) => all.filter((c) => c.id === id));
    if (!network || credentials.length === 0) throw new CauseError('no-credential', `network ${device.network} names no SSH credential`);
    const { may, wait } = row === null ? { may: credentials, wait: null } : await sparing(context, row, 'ssh', credentials);
    const pinned = row?.hostKey ?? null;
    const { receive } = context;
    const whole: SessionUse = { receive: receive && (() => receive(row ?? device, family)), ...use };
    let refused: Error | null = null;
    for (const credential of may) {
      try {
        const at = { address: device.address, port: network.sshPort, hostKey: pinned };
        const session = await DeviceSession.openWith(context, at, family, credential, whole);
        if (pinned === null || row?.credentials['ssh'] !== credential.id)
          await context.db.writeSurely(async (em) =>
            em.nativeUpdate(
              DeviceEntity,
              { id: device.id },
              { hostKey: session.shell.hostKey, credentials: { ...row?.credentials, ssh: credential.id } },
            ),
          );
        return session;
      } catch (error) {
        const cause = asCause(error);
        // Named at once, so that a person can accept it without another discovery.
        if (cause instanceof CauseError && cause.code === 'host-key-changed') await noteShownKey(context, device.id, cause.detail);
        // Only a refused login, or a key of ours that cannot be used, is worth another credential; the next would meet the same silence.
        if (!(cause instanceof CauseError) || (cause.code !== 'login-refused' && cause.code !== 'key-unusable')) throw cause;
        refused = cause;
      }
    }
    await wait?.();
    throw refused!;
  }

  /** Logs in at an address with one credential, and asks for more rights where the family needs them. @throws CauseError */
  static async openWith(
    context: Context,
    at: { address: string; port: number; hostKey: string | null },
    family: FamilyWithShell,
    credential: CredentialRow,
    use: SessionUse = {},
  ): Promise<DeviceSession> {
    const secret = context.sealer.open(credential.sealed);
    const second = credential.second === null ? null : context.sealer.open(credential.second);
    const isKey = credential.kind === 'ssh-key';
    const word = isKey ? (credential.raise === null ? null : context.sealer.open(credential.raise)) : second;
    const secrets = [...(isKey ? [] : [secret]), ...[second, word].filter((s) => s !== null)];
    let shell: ShellSession;
    try {
      shell = await ShellSession.open({
        host: at.address,
        port: at.port,
        username: credential.user ?? '',
        ...(isKey ? { privateKey: secret, ...(second === null ? {} : { passphrase: second }) } : { password: secret }),
        hostKey: at.hostKey,
        readyTimeoutMs: handshakeMs,
      });
    } catch (error) {
      throw withoutSecrets(error, family, secrets);
    }
    const { given = {}, signal, onProgress, carry, receive } = use;
    const session = new DeviceSession(shell, family, context.options.timeScale, given, signal, onProgress, carry, receive, secrets);
    try {
      const input = { family, shell, timeScale: context.options.timeScale, signal: use.signal };
      await awaitPrompt(input);
      if (family.shell.raise) {
        if (word === null)
          throw new CauseError('no-credential', `credential ${credential.name} has no second word, which this family asks for`);
        await raise(input, word, (hide) => shell.conceal(hide ? '‹the second word›\n' : null));
      }
      return session;
    } catch (error) {
      session.close();
      throw withoutSecrets(error, family, secrets);
    }
  }

  /** The key by which the device proved itself. */
  get hostKey(): string {
    return this.shell.hostKey;
  }

  async run(name: ProcedureName): Promise<ProcedureResult> {
    // Settings are full of secrets: they are kept sealed as a backup, and nowhere else.
    if (name === 'configuration') this.shell.conceal(concealed);
    try {
      return await runProcedure(name, {
        family: this.family,
        shell: this.shell,
        given: this.given,
        timeScale: this.timeScale,
        signal: this.signal,
        onProgress: this.onProgress,
        carry: this.carry,
        receive: this.receive,
      });
    } catch (error) {
      throw withoutSecrets(error, this.family, this.secrets);
    } finally {
      this.shell.conceal(null);
    }
  }

  /** What was said so far, with the secrets of settings hidden. */
  conversation(): string {
    return hideWords(scrub(this.shell.conversation, this.family), this.secrets).slice(0, longestConversation);
  }

  close(): void {
    this.shell.close();
  }
}

/** The key that a device showed instead of the pinned one, from what was told of the refusal. */
async function noteShownKey(context: Context, device: string, detail: string): Promise<void> {
  const shown = /shows (SHA256:\S+?),/.exec(detail)?.[1];
  if (shown === undefined) return;
  await context.db.write(async (em) => em.nativeUpdate(DeviceEntity, { id: device }, { shownHostKey: shown }));
  context.live.changed('devices', [device]);
}

function scrub(entries: readonly ShellEntry[], family: Family): string {
  return hideSecrets(
    entries.map((e) => (e.from === 'device' ? e.text.replace(/\r/g, '') : e.text === concealed ? e.text : '')).join(''),
    family,
  );
}
