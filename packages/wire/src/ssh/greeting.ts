import { createHash } from 'node:crypto';
import { connect } from 'node:net';
import { Client } from 'ssh2';
import { needHost } from '../need-host.js';
import { WireError } from '../errors.js';
import { ownTimeout } from '../own-time.js';

/** RFC 4253 §4.2 allows lines before the identification; they and it are read up to this much. */
const longestGreeting = 8 * 1024;

export interface SshGreeting {
  /** `SSH-2.0-…`, RFC 4253 §4.2. */
  readonly identification: string;
  /** Lines that came before it. */
  readonly before: string;
}

/**
 * Reads what an SSH server says of itself to anybody.
 * @throws WireError `refused`, `unreachable`, `timeout` (it accepts and never speaks), `lost`, `malformed` (no SSH, or no end).
 */
export function sshGreeting(host: string, port: number, timeoutMs: number): Promise<SshGreeting> {
  needHost(host);
  const where = `${host}:${port}`;
  return new Promise((resolve, reject) => {
    const socket = connect({ host, port });
    let said = '';
    let connected = false;
    socket.on('connect', () => (connected = true));
    const end = (result: SshGreeting | WireError): void => {
      timer.cancel();
      socket.destroy();
      if (result instanceof WireError) reject(result);
      else resolve(result);
    };
    const timer = ownTimeout(
      () =>
        end(
          connected
            ? new WireError(
                'timeout',
                said === '' ? `${where} accepts the connection and says nothing` : `${where} does not finish its greeting`,
              )
            : new WireError('unreachable', `nothing at ${where} takes the connection`),
        ),
      timeoutMs,
    );
    socket.on('data', (data: Buffer) => {
      said += data.toString('latin1');
      const match = /(?:^|\n)(SSH-[^\r\n]{1,255})\r?\n/.exec(said);
      if (match) return end({ identification: match[1]!, before: said.slice(0, match.index).trimEnd().slice(0, 2000) });
      if (said.length > longestGreeting) end(new WireError('malformed', `${where} sends a greeting without end`));
    });
    socket.on('error', (error: NodeJS.ErrnoException) =>
      end(new WireError(error.code === 'ECONNREFUSED' ? 'refused' : 'unreachable', `${where}: ${error.code ?? error.message}`)),
    );
    socket.on('close', () => end(new WireError(said === '' ? 'sessions-full' : 'malformed', closedEarly(where, said))));
  });
}

const closedEarly = (where: string, said: string): string =>
  said === '' ? `${where} closes the connection before it says anything` : `${where} does not speak SSH`;

/** The fingerprint of a host key: `SHA256:` and base64 without padding (RFC 4648 §4). */
export const fingerprint = (key: Buffer): string => `SHA256:${createHash('sha256').update(key).digest('base64').replace(/=+$/, '')}`;

const slow = 'the key exchange did not end';

/** Reads the host key by the key exchange alone; nobody logs in. @throws WireError */
export function sshHostKey(host: string, port: number, timeoutMs: number): Promise<string> {
  needHost(host);
  const client = new Client();
  return new Promise((resolve, reject) => {
    let key: string | null = null;
    const end = (error: Error | null): void => {
      timer.cancel();
      client.destroy();
      if (key !== null) resolve(key);
      else if (error !== null && /no matching/.test(error.message))
        reject(new WireError('no-common-algorithm', `${host}:${port}: ${error.message}`));
      else if (error !== null && error.message === slow) reject(new WireError('timeout', `${host}:${port}: ${slow}`));
      else
        reject(new WireError('sessions-full', `${host}:${port} ends the key exchange: its sessions are taken, or a filter turns us away`));
    };
    const timer = ownTimeout(() => end(new Error(slow)), timeoutMs);
    client.on('error', (error: Error) => end(error));
    client.on('close', () => end(null));
    client.connect({
      host,
      port,
      username: 'nobody',
      readyTimeout: 0,
      hostVerifier: (shown: Buffer) => {
        key = fingerprint(shown);
        return false;
      },
    });
  });
}
