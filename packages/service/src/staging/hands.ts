import { CauseError } from '@barrow/core';
import {
  hasShell,
  runProcedure,
  usesShell,
  usesWeb,
  type CarriedFile,
  type Carrier,
  type Family,
  type ProcedureName,
  type ProcedureResult,
  type Web,
} from '@barrow/families';
import {
  askHttp,
  SshPlace,
  uploadHttp,
  WireError,
  type HttpAccess,
  type HttpTarget,
  type SharedLink,
  type ShellTarget,
} from '@barrow/wire';
import type { Context } from '../context.js';
import { CredentialEntity, DeviceEntity, NetworkEntity, type CredentialRow, type DeviceRow, type NetworkRow } from '../data/entities.js';
import { sparing, type Spared } from '../devices/approvals.js';
import { httpAccess } from '../discovery/access.js';
import { withoutSecrets } from '../runner/secrets.js';
import { DeviceSession } from '../runner/session.js';

interface Logins {
  readonly network: NetworkRow;
  readonly row: DeviceRow | null;
  readonly credentials: readonly CredentialRow[];
  /** Fails with what was withheld, when none of them opens it. */
  readonly wait: Spared['wait'];
}

export interface HandsUse {
  readonly given: Readonly<Record<string, string>>;
  readonly files: readonly CarriedFile[];
  readonly link: SharedLink | null;
  readonly signal: AbortSignal;
  readonly onPercent?: (percent: number) => void;
  /** Octets of a file that were pushed so far. */
  readonly onPushed?: (file: CarriedFile, octets: number) => void;
}

/** Everything that a procedure may work with on one device: its shell, its pages, and carrying files to it. */
export class Hands {
  #secure: boolean | null = null;
  #logins: Logins | null = null;

  constructor(
    private readonly context: Context,
    private readonly device: DeviceRow,
    private readonly family: Family,
  ) {}

  /** @throws CauseError */
  async run(name: ProcedureName, use: HandsUse): Promise<ProcedureResult> {
    const procedure = this.family.procedures[name];
    if (!procedure) throw new CauseError('service-fault', `family ${this.family.family} has no procedure ${name}`);
    try {
      if (usesShell(procedure) && hasShell(this.family)) {
        const session = await DeviceSession.open(this.context, this.device, this.family, {
          given: use.given,
          signal: use.signal,
          onProgress: use.onPercent,
          carry: { files: use.files, by: this.#carrier(use) },
        });
        try {
          return await session.run(name);
        } finally {
          session.close();
        }
      }
      const web = usesWeb(procedure) ? this.#web(use.signal) : null;
      return await runProcedure(name, {
        family: this.family,
        shell: null,
        web,
        carry: { files: use.files, by: this.#carrier(use) },
        given: use.given,
        timeScale: this.context.options.timeScale,
        signal: use.signal,
      });
    } catch (error) {
      throw withoutSecrets(error, this.family, this.#secrets());
    }
  }

  /** What its logins are made of; none of it may stand in what is told of a failure. */
  #secrets(): string[] {
    const { sealer } = this.context;
    return (this.#logins?.credentials ?? []).flatMap((c) =>
      [c.sealed, c.second, c.raise].filter((s) => s !== null).map((s) => sealer.open(s)),
    );
  }

  #web(signal: AbortSignal): Web {
    return {
      get: (path, limitMs) => this.#asSomebody(signal, limitMs, (target) => askHttp(target, path)),
      ask: ({ path, ...request }, limitMs) => this.#asSomebody(signal, limitMs, (target) => askHttp(target, path, request)),
    };
  }

  /** With the login that worked last, then with the others of its network in their order; the one that opens is kept. */
  async #asSomebody<T>(signal: AbortSignal, timeoutMs: number, work: (target: HttpTarget) => Promise<T>): Promise<T> {
    this.#logins ??= await this.#credentials(['http-basic', 'http-digest', 'http-token'], 'http');
    const { network, credentials } = this.#logins;
    const target = (secure: boolean, access: HttpAccess | null): HttpTarget => ({
      host: this.device.address,
      port: secure ? network.httpsPort : network.httpPort,
      secure,
      access,
      timeoutMs,
      signal,
    });
    if (this.#secure === null) {
      // Plain pages first, as discovery does; a device that has only secure ones refuses the connection.
      try {
        await askHttp({ ...target(false, null), timeoutMs: 4000 }, '/');
        this.#secure = false;
      } catch (error) {
        if (!(error instanceof WireError)) throw error;
        this.#secure = true;
      }
    }
    if (credentials.length === 0) return work(target(this.#secure, null));
    let refused: WireError | null = null;
    for (const [index, credential] of credentials.entries()) {
      try {
        const done = await work(target(this.#secure, httpAccess(this.context, credential)));
        this.#logins = { ...this.#logins, credentials: [credential, ...credentials.filter((_, i) => i !== index)] };
        return done;
      } catch (error) {
        if (!(error instanceof WireError) || error.fault !== 'login-refused') throw error;
        refused = error;
      }
    }
    await this.#logins.wait?.();
    throw refused!;
  }

  #carrier(use: HandsUse): Carrier {
    const { link } = use;
    return async (file, how, limitMs) => {
      const onSent = (octets: number): void => use.onPushed?.(file, octets);
      if (how.over === 'http-form' || how.over === 'http-body') {
        const as = how.over === 'http-form' ? ({ how: 'form', field: how.field } as const) : ({ how: 'body' } as const);
        const upload = { method: how.method, path: how.to, as, file, link, onSent };
        return this.#asSomebody(use.signal, limitMs, (target) => uploadHttp(target, upload));
      }
      const place = await SshPlace.open(await this.#sshTarget());
      const abort = (): void => place.close();
      use.signal.addEventListener('abort', abort, { once: true });
      try {
        await (how.over === 'sftp' ? place.put(file, how.to, { link, onSent }) : place.copy(file, how.to, { link, onSent }));
        return { status: 200, body: '' };
      } catch (error) {
        if (error instanceof WireError && error.fault === 'refused') return { status: 400, body: error.detail };
        throw error;
      } finally {
        use.signal.removeEventListener('abort', abort);
        place.close();
      }
    };
  }

  async #sshTarget(): Promise<ShellTarget> {
    const { network, credentials, row } = await this.#credentials(['ssh-password', 'ssh-key'], 'ssh');
    const [credential] = credentials;
    if (!credential) throw new CauseError('no-credential', `network ${this.device.network} names no SSH credential`);
    return sshTargetOf(this.context, credential, { host: this.device.address, port: network.sshPort, hostKey: row?.hostKey ?? null });
  }

  async #credentials(kinds: string[], protocol: 'ssh' | 'http'): Promise<Logins> {
    const { db } = this.context;
    const [network, all, row] = await Promise.all([
      db.findOne(NetworkEntity, { name: this.device.network }),
      db.find(CredentialEntity, { kind: { $in: kinds } }),
      db.findOne(DeviceEntity, { id: this.device.id }),
    ]);
    if (!network) throw new CauseError('no-credential', `its network ${this.device.network} is no longer known`);
    const order = new Set([...(row?.credentials[protocol] ? [row.credentials[protocol]] : []), ...network.credentials]);
    const credentials = [...order].flatMap((id) => all.filter((c) => c.id === id));
    const { may, wait } = row === null ? { may: credentials, wait: null } : await sparing(this.context, row, protocol, credentials);
    return { network, credentials: may, wait, row };
  }
}

/** A login over SSH with a credential of ours. */
export function sshTargetOf(
  context: Context,
  credential: CredentialRow,
  at: { readonly host: string; readonly port: number; readonly hostKey: string | null },
): ShellTarget {
  const secret = context.sealer.open(credential.sealed);
  const second = credential.second === null ? undefined : context.sealer.open(credential.second);
  return {
    ...at,
    username: credential.user ?? '',
    ...(credential.kind === 'ssh-key' ? { privateKey: secret, passphrase: second } : { password: secret }),
    readyTimeoutMs: 10_000,
  };
}
