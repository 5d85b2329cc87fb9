import { Client } from 'ssh2';
import { WireError } from '../errors.js';
import { fingerprint } from './greeting.js';

export interface ShellTarget {
  readonly host: string;
  readonly port: number;
  readonly username: string;
  /** Also the answer to keyboard-interactive questions (RFC 4256) that do not echo. */
  readonly password?: string | undefined;
  /** A private key in PEM or OpenSSH form, and what opens it. */
  readonly privateKey?: string | undefined;
  readonly passphrase?: string | undefined;
  /** The pinned key, `SHA256:` and base64 without padding as RFC 4648 §4 writes it; null accepts any and tells it. */
  readonly hostKey: string | null;
  readonly readyTimeoutMs: number;
}

/**
 * Shakes hands and logs in.
 * @throws WireError `unreachable`, `refused`, `login-refused`, `host-key-changed`, `no-common-algorithm`, `sessions-full`,
 * `login-slow` (the handshake is done, and the login is not answered), `timeout`.
 */
export function connectSsh(target: ShellTarget): Promise<{ client: Client; hostKey: string }> {
  const client = new Client();
  const where = `${target.host}:${target.port}`;
  let seenKey = '';
  let keyRefused = false;
  return new Promise((resolve, reject) => {
    let settled = false;
    const fail = (error: WireError): void => {
      if (settled) return;
      settled = true;
      client.end();
      reject(error);
    };
    client.on('error', (error: Error & { level?: string; code?: string }) => {
      if (keyRefused) return fail(new WireError('host-key-changed', `${where} shows ${seenKey}, pinned is ${target.hostKey}`));
      if (error.level === 'client-authentication') return fail(new WireError('login-refused', `${where} refused user ${target.username}`));
      if (error.level === 'client-timeout' && seenKey !== '')
        return fail(
          new WireError('login-slow', `${where} left the login of ${target.username} unanswered for ${target.readyTimeoutMs} ms`),
        );
      if (error.level === 'client-timeout')
        return fail(new WireError('timeout', `${where} did not finish the SSH handshake in ${target.readyTimeoutMs} ms`));
      if (error.code === 'ECONNREFUSED') return fail(new WireError('refused', `${where} refused the connection`));
      if (/no matching/.test(error.message)) return fail(new WireError('no-common-algorithm', `${where}: ${error.message}`));
      if (/parse|passphrase|private key/i.test(error.message))
        return fail(new WireError('login-refused', `the private key cannot be used: ${error.message}`));
      if (seenKey === '' && (error.code === 'ECONNRESET' || /before handshake/.test(error.message))) return fail(turnedAway());
      return fail(new WireError('unreachable', `${where}: ${error.code ?? error.message}`));
    });
    const turnedAway = (): WireError =>
      new WireError(
        'sessions-full',
        `${where} accepts the connection and closes it before a login: its sessions are taken, or a filter turns us away`,
      );
    client.on('close', () => fail(seenKey === '' ? turnedAway() : new WireError('lost', `${where} closed the connection`)));
    client.on('keyboard-interactive', (_name, _instructions, _language, prompts, answer) =>
      answer(prompts.map((p) => (p.echo ? target.username : (target.password ?? '')))),
    );
    client.on('ready', () => {
      client.setNoDelay(true);
      settled = true;
      resolve({ client, hostKey: seenKey });
    });
    try {
      client.connect({
        host: target.host,
        port: target.port,
        username: target.username,
        password: target.password,
        ...(target.privateKey === undefined ? {} : { privateKey: target.privateKey, passphrase: target.passphrase }),
        tryKeyboard: target.password !== undefined,
        readyTimeout: target.readyTimeoutMs,
        hostVerifier: (key: Buffer) => {
          seenKey = fingerprint(key);
          keyRefused = target.hostKey !== null && target.hostKey !== seenKey;
          return !keyRefused;
        },
      });
    } catch (error) {
      // An unreadable private key is told at once.
      fail(new WireError('login-refused', `the private key cannot be used: ${(error as Error).message}`));
    }
  });
}
