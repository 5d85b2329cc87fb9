import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { tmpdir, userInfo } from 'node:os';
import { join } from 'node:path';
import { connect } from 'node:net';
import { vi } from 'vitest';

/** A host that carries a program of its own, in a folder, with Debian's sshd before it; it restarts when it is told to. */
export class Station {
  readonly dir = mkdtempSync(join(tmpdir(), 'barrow-station-'));
  readonly user = userInfo().username;
  readonly root = join(this.dir, 'station');
  readonly machineId = join(this.dir, 'machine-id');
  readonly stat = join(this.dir, 'stat');
  restarts = 0;
  #child: ChildProcess | null = null;
  #ended = false;

  constructor(
    readonly address: string,
    readonly port: number,
  ) {
    mkdirSync('/run/sshd', { recursive: true });
    const key = (name: string): void => void execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-f', join(this.dir, name)]);
    key('host');
    key('key');
    writeFileSync(join(this.dir, 'authorized'), readFileSync(join(this.dir, 'key.pub')));
    mkdirSync(join(this.root, 'releases', '1.0'), { recursive: true });
    writeFileSync(join(this.root, 'releases', '1.0', 'VERSION'), '1.0\n');
    symlinkSync('releases/1.0', join(this.root, 'current'));
    writeFileSync(this.machineId, '4f6b21c09e3d4a5f8a7be1d2c3f40516\n');
    writeFileSync(this.stat, 'cpu 1 2 3\nbtime 1795700000\nprocesses 7\n');
    const bin = join(this.dir, 'bin');
    mkdirSync(bin);
    const program = (name: string, text: string): void => {
      writeFileSync(join(bin, name), `#!/bin/sh\n${text}\n`);
      chmodSync(join(bin, name), 0o755);
    };
    program('hostname', 'echo station-1');
    // It has several addresses here, and asks from its own.
    program('curl', `exec /usr/bin/curl --interface ${address} "$@"`);
    // The program starts in another moment, and whoever was on the host is off it.
    program('reboot', `sed -i 's/btime .*/btime 1795790000/' ${this.stat}\nkill $(cat ${join(this.dir, 'pid')})\nkill -9 $PPID`);
    chmodSync(this.dir, 0o700);
    writeFileSync(
      join(this.dir, 'config'),
      [
        `ListenAddress ${address}:${port}`,
        `HostKey ${join(this.dir, 'host')}`,
        `AuthorizedKeysFile ${join(this.dir, 'authorized')}`,
        'PasswordAuthentication no',
        'PermitRootLogin yes',
        'StrictModes no',
        'UsePAM no',
        `PidFile ${join(this.dir, 'pid')}`,
        `ForceCommand env ENV= PS1='station-1$ ' PATH=${bin}:/usr/bin:/bin /bin/sh -i`,
        '',
      ].join('\n'),
    );
  }

  get privateKey(): string {
    return readFileSync(join(this.dir, 'key'), 'utf8');
  }
  get version(): string {
    return readFileSync(join(this.root, 'current', 'VERSION'), 'utf8').trim();
  }

  async start(): Promise<void> {
    this.#child = spawn('/usr/sbin/sshd', ['-D', '-e', '-f', join(this.dir, 'config')], { stdio: 'ignore' });
    this.#child.once('exit', () => {
      if (this.#ended) return;
      this.restarts++;
      void this.start();
    });
    await vi.waitFor(
      () =>
        new Promise<void>((resolve, reject) => {
          const socket = connect({ host: this.address, port: this.port });
          socket.on('connect', () => (socket.destroy(), resolve()));
          socket.on('error', reject);
        }),
      { timeout: 60_000, interval: 50 },
    );
  }

  /** An archive of a version, as its maker hands it out. */
  archive(version: string): string {
    const folder = join(this.dir, `made-${version}`);
    mkdirSync(folder, { recursive: true });
    writeFileSync(join(folder, 'VERSION'), `${version}\n`);
    const file = join(this.dir, `station-${version}.tar.gz`);
    execFileSync('tar', ['-czf', file, '-C', folder, '.']);
    return file;
  }

  async stop(): Promise<void> {
    this.#ended = true;
    const child = this.#child;
    if (child && child.exitCode === null) {
      const gone = new Promise((resolve) => child.once('exit', resolve));
      child.kill();
      await gone;
    }
    if (existsSync(this.dir)) rmSync(this.dir, { recursive: true, force: true });
  }
}
