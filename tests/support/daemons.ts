import { spawn, type ChildProcess } from 'node:child_process';
import { chmodSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { tmpdir, userInfo } from 'node:os';
import { join } from 'node:path';
import { execFileSync } from 'node:child_process';
import { vi } from 'vitest';
import { SnmpClient } from '@barrow/wire';

export interface Daemon {
  readonly stop: () => Promise<void>;
}

function ended(child: ChildProcess, dir: string): Daemon {
  return {
    stop: async () => {
      if (child.exitCode === null && child.signalCode === null) {
        const gone = new Promise((resolve) => child.once('exit', resolve));
        child.kill('SIGKILL');
        await gone;
      }
      rmSync(dir, { recursive: true, force: true });
    },
  };
}

/** Debian's snmpd at one loopback address: v2c by community, and v3 by a user with SHA-256 and AES-128. */
export async function startSnmpd(use: {
  address: string;
  port: number;
  community: string;
  sysName: string;
  sysDescr: string;
  /** A community that may set. */
  writes?: string;
  user?: { name: string; authKey: string; privKey: string; auth?: 'SHA' | 'SHA-256' };
}): Promise<Daemon> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-snmpd-'));
  const { user } = use;
  writeFileSync(
    join(dir, 'snmpd.conf'),
    [
      `agentaddress udp:${use.address}:${use.port}`,
      `rocommunity ${use.community} 127.0.0.0/8`,
      ...(use.writes === undefined ? [] : [`rwcommunity ${use.writes} 127.0.0.0/8`]),
      `sysName ${use.sysName}`,
      `sysDescr ${use.sysDescr}`,
      ...(user
        ? [`createUser ${user.name} ${user.auth ?? 'SHA-256'} "${user.authKey}" AES "${user.privKey}"`, `rouser ${user.name} priv`]
        : []),
      `[snmp] persistentDir ${dir}`,
      '',
    ].join('\n'),
  );
  const child = spawn('snmpd', ['-f', '-Lo', '-C', '-c', join(dir, 'snmpd.conf'), '-p', join(dir, 'pid')], {
    env: { ...process.env, SNMP_PERSISTENT_DIR: dir, MIBS: '' },
    stdio: 'ignore',
  });
  const client = new SnmpClient();
  const target = { address: use.address, port: use.port, access: { community: use.community }, timeoutMs: 300, retries: 0 };
  await vi.waitFor(() => client.get(target, ['1.3.6.1.2.1.1.1.0']), { timeout: 20_000, interval: 50 });
  client.close();
  return ended(child, dir);
}

export interface Sshd extends Daemon {
  /** The private key that opens it, for this user. */
  readonly privateKey: string;
  readonly publicKey: string;
  readonly user: string;
  /** Its own host key, as `ssh-keygen -l` writes it. */
  readonly fingerprint: string;
  /** Takes the key away from those that it lets in. */
  readonly forget: () => void;
}

/** Debian's sshd at one loopback address, which takes a key of its own, or another's; with a prompt, there is a plain shell behind it. */
export async function startSshd(use: { address: string; port: number; prompt?: string; publicKey?: string }): Promise<Sshd> {
  const dir = mkdtempSync(join(tmpdir(), 'barrow-sshd-'));
  mkdirSync('/run/sshd', { recursive: true });
  const keygen = (name: string): void => void execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-f', join(dir, name)]);
  keygen('host');
  keygen('key');
  const publicKey = use.publicKey ?? readFileSync(join(dir, 'key.pub'), 'utf8');
  writeFileSync(join(dir, 'authorized'), publicKey);
  chmodSync(dir, 0o700);
  writeFileSync(
    join(dir, 'config'),
    [
      `ListenAddress ${use.address}:${use.port}`,
      `HostKey ${join(dir, 'host')}`,
      `AuthorizedKeysFile ${join(dir, 'authorized')}`,
      'PasswordAuthentication no',
      'PubkeyAuthentication yes',
      'PermitRootLogin yes',
      'StrictModes no',
      'UsePAM no',
      'Subsystem sftp internal-sftp',
      ...(use.prompt === undefined ? [] : [`ForceCommand env ENV= PS1='${use.prompt}' PATH=/usr/bin:/bin /bin/sh -i`]),
      `PidFile ${join(dir, 'pid')}`,
      '',
    ].join('\n'),
  );
  const child = spawn('/usr/sbin/sshd', ['-D', '-e', '-f', join(dir, 'config')], { stdio: 'ignore' });
  await vi.waitFor(
    () =>
      new Promise<void>((resolve, reject) => {
        const socket = connect({ host: use.address, port: use.port });
        socket.on('connect', () => (socket.destroy(), resolve()));
        socket.on('error', reject);
      }),
    { timeout: 20_000, interval: 50 },
  );
  const fingerprint = execFileSync('ssh-keygen', ['-l', '-f', join(dir, 'host.pub')], { encoding: 'utf8' }).split(' ')[1]!;
  const privateKey = readFileSync(join(dir, 'key'), 'utf8');
  const forget = (): void => writeFileSync(join(dir, 'authorized'), '');
  return { ...ended(child, dir), privateKey, publicKey, user: userInfo().username, fingerprint, forget };
}
