import { Client } from 'ssh2';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownTimeout } from '../own-time.js';
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

const keyUnusable = (why: string): WireError => new WireError('key-unusable', `the private key cannot be used: ${why}`);

/**
 * Shakes hands and logs in.
 * @throws WireError `unreachable`, `refused`, `login-refused`, `host-key-changed`, `no-common-algorithm`, `sessions-full`,
 * `login-slow` (the handshake is done, and the login is not answered), `timeout`, `key-unusable` (ours, or its passphrase is wrong).
 */
export function connectSsh(target: ShellTarget): Promise<{ client: Client; hostKey: string }> {
  needHost(target.host);
  const client = new Client();
  const where = `${target.host}:${target.port}`;
  let seenKey = '';
  let keyRefused = false;
  return new Promise((resolve, reject) => {
    let settled = false;
    const fail = (error: WireError): void => {
      if (settled) return;
      settled = true;
      timer.cancel();
      client.end();
      // Who does not answer does not close either.
      client.destroy();
      reject(error);
    };
    let connected = false;
    client.on('connect', () => (connected = true));
    const timer = ownTimeout(() => {
      const { readyTimeoutMs: ms, username } = target;
      if (seenKey !== '') return fail(new WireError('login-slow', `${where} left the login of ${username} unanswered for ${ms} ms`));
      // No connection, no conversation: what is there drops what we send, or nothing is there.
      if (!connected) return fail(new WireError('unreachable', `nothing at ${where} takes the connection, in ${ms} ms`));
      fail(new WireError('timeout', `${where} took the connection and did not finish the SSH handshake in ${ms} ms`));
    }, target.readyTimeoutMs);
    client.on('error', (error: Error & { level?: string; code?: string }) => {
      if (keyRefused) return fail(new WireError('host-key-changed', `${where} shows ${seenKey}, pinned is ${target.hostKey}`));
      if (error.level === 'client-authentication') return fail(new WireError('login-refused', `${where} refused user ${target.username}`));
      if (error.code === 'ECONNREFUSED') return fail(new WireError('refused', `${where} refused the connection`));
      if (/no matching/.test(error.message)) return fail(new WireError('no-common-algorithm', `${where}: ${error.message}`));
      if (/parse|passphrase|private key/i.test(error.message)) return fail(keyUnusable(error.message));
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
      timer.cancel();
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
        // Waited for here, in our own time.
        readyTimeout: 0,
        hostVerifier: (key: Buffer) => {
          seenKey = fingerprint(key);
          keyRefused = target.hostKey !== null && target.hostKey !== seenKey;
          return !keyRefused;
        },
      });
    } catch (error) {
      // An unreadable private key is told at once.
      fail(keyUnusable((error as Error).message));
    }
  });
}
