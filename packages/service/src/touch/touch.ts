import { CauseError } from '@barrow/core';
import {
  needsPageLogin,
  asCause,
  hasShell,
  usesOnvif,
  usesShell,
  usesSip,
  usesSnmp,
  usesWeb,
  type AskPerson,
  type Carrier,
  type Family,
  type Onvif,
  type ProcedureName,
  type ProcedureResult,
  type Sip,
  type Snmp,
  type Web,
} from '@barrow/families';
import {
  PageSession,
  askHttp,
  askOnvif,
  askSip,
  findXml,
  putTftp,
  onvifClock,
  onvifDeviceService,
  type ShellSession,
  SshPlace,
  uploadHttp,
  textOf,
  WireError,
  type HttpAccess,
  type HttpTarget,
  type SnmpTarget,
  type SnmpValue,
} from '@barrow/wire';
import type { Context } from '../context.js';
import { DeviceEntity, NetworkEntity, type CredentialRow, type DeviceRow } from '../data/entities.js';
import { httpAccess, pageLogin, snmpAccess, sshTargetOf } from './access.js';
import { wordsOf } from './credential-words.js';
import { loginsOf, type Door, type Logins } from './logins.js';
import { carryOut, concealed, ofSettings, type Use } from './procedure.js';
import { hideSecrets, hideWords, withoutSecrets } from './secrets.js';
import { openShell, saidOver, type OpenShell } from './shell.js';

const longestConversation = 64 * 1024;
/** Objects that are read of one table, at most. */
const mostObjects = 5000;
/** Stands where a credential has its id. */
const factoryLogin = 'factory';
/** Of a page, so much is kept. */
const longestPage = 4000;
/** Where one listens by habit (RFC 1350 §4, RFC 9110 §4.2.1). */
const tftpPort = 69;
const httpPort = 80;
/** What an address looks like, before it is tried. */
const anyAddress = '^([0-9]{1,3}(\\.[0-9]{1,3}){3}|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*)$';

/**
 * The one who carries out a family's procedures on a device: over its shell, its pages, by carrying files to it and taking files
 * from it. Each way in is opened when a procedure first needs it, with the login that worked last or the next one that may be tried.
 */
export class Touch {
  #secure: boolean | null = null;
  readonly #pages = new PageSession();
  readonly #logins = new Map<Door, Logins>();
  #shell: OpenShell | null = null;
  #shownHostKey: string | null = null;
  /** What was said, of shells that were closed and of pages. */
  readonly #said: string[] = [];
  /** What persons answered, or was given, that is shown nowhere. */
  readonly #kept: string[] = [];
  #clockOffsetMs: number | null = null;
  /** Where its boot loader listens, as a person said. */
  #toldAddress: string | null = null;

  constructor(
    private readonly context: Context,
    private readonly device: DeviceRow,
    private readonly family: Family,
    private readonly use: Use = {},
  ) {}

  can(name: ProcedureName): boolean {
    return this.family.procedures[name] !== undefined;
  }

  /** Carries out a procedure; what is in `more` goes before what was said at the beginning. @throws CauseError */
  async run(name: ProcedureName, more: Use = {}): Promise<ProcedureResult> {
    const { context, device, family } = this;
    const use = { ...this.use, ...more, given: { ...this.use.given, ...more.given } };
    if (use.secrets) this.#kept.push(...use.secrets);
    const procedure = family.procedures[name];
    if (!procedure) throw new CauseError('service-fault', `family ${family.family} has no procedure ${name}`);
    const { receive } = context;
    try {
      const shell = usesShell(procedure) ? await this.#openShell(use.signal) : null;
      const web = usesWeb(procedure) ? this.#web(name, use) : null;
      const row = this.#logins.get('ssh')?.row ?? device;
      const login = needsPageLogin(procedure) ? await this.pageLogin() : {};
      return await carryOut(
        context,
        family,
        name,
        {
          shell: shell?.shell ?? null,
          web,
          ...(usesSip(procedure) ? { sip: await this.#sip(use) } : {}),
          ...(usesSnmp(procedure) ? { snmp: await this.#snmp(use) } : {}),
          ...(usesOnvif(procedure) ? { onvif: this.#onvif(name, use) } : {}),
          secrets: this.#secrets(),
        },
        {
          ...use,
          given: { ...use.given, ...login },
          ...(use.person ? { person: this.#person(use.person) } : {}),
          carry: { files: use.files ?? [], by: this.#carrier(use) },
          receive: receive && (() => receive(row, family)),
        },
      );
    } catch (error) {
      throw withoutSecrets(error, family, this.#secrets());
    }
  }

  /** Its shell, for who says what a person types. @throws CauseError */
  async shell(signal?: AbortSignal): Promise<ShellSession> {
    try {
      return (await this.#openShell(signal)).shell;
    } catch (error) {
      throw withoutSecrets(error, this.family, this.#secrets());
    }
  }

  /** Asks for one of its pages what a person wrote. @throws CauseError */
  async page(
    request: {
      readonly method: 'GET' | 'POST' | 'PUT' | 'DELETE';
      readonly path: string;
      readonly body?: string;
      readonly type: string;
      readonly headers?: Readonly<Record<string, string>>;
    },
    limitMs: number,
  ): Promise<{ readonly status: number; readonly body: string }> {
    const web = this.#web('record', this.use);
    try {
      return await (request.method === 'GET' ? web.get(request.path, limitMs, request.headers) : web.ask!(request, limitMs));
    } catch (error) {
      throw withoutSecrets(asCause(error), this.family, this.#secrets());
    }
  }

  /** The login for a page with a form. @throws CauseError */
  async pageLogin(): Promise<{ readonly pageUser: string; readonly pageWord: string }> {
    const logins = this.#asReset(await this.#loginsOf('http'), 'http-basic');
    const login = pageLogin(this.context, logins.credentials);
    if (login === null) {
      await logins.wait?.();
      throw new CauseError(
        'no-credential',
        `network ${this.device.network} names no credential of the kind http-basic, which a form needs`,
      );
    }
    // As a form sends it.
    this.#kept.push(login.pageWord, encodeURIComponent(login.pageWord));
    return login;
  }

  /** A word that is said over it, and may stand nowhere. */
  hideToo(word: string): void {
    this.#kept.push(word);
  }

  /** What may be tried at the device, with the login after a reset where that may be. @throws CauseError */
  async passwords(): Promise<Logins> {
    return this.#asReset(await this.#loginsOf('ssh'), 'ssh-password');
  }

  /** A text without what its logins are made of. */
  hide(text: string): string {
    return hideWords(hideSecrets(text, this.family), this.#secrets());
  }

  /** What was said so far, with what is secret in it hidden. */
  conversation(): string {
    const now = this.#shell ? [saidOver(this.#shell, this.family, this.#kept)] : [];
    return hideWords([...this.#said, ...now].join('\n'), this.#kept).slice(0, longestConversation);
  }

  /** Lets go of the device; what was said, and which login worked, is kept for the next procedure. */
  close(): void {
    if (!this.#shell) return;
    this.#said.push(saidOver(this.#shell, this.family, this.#kept));
    this.#shell.shell.close();
    this.#shell = null;
  }

  /** What its logins are made of; none of it may stand in what is told of a failure. */
  #secrets(): string[] {
    const { sealer } = this.context;
    const credentials = [...this.#logins.values()].flatMap((l) => l.credentials);
    const words = wordsOf(sealer, credentials);
    return [...words, ...this.#kept];
  }

  /** Besides ours the login that a reset brings back, where that may be tried: before ours, where those were refused here. */
  #asReset(logins: Logins, kind: string): Logins {
    const { context, family, use } = this;
    const face = use.factoryLogin ?? family.faces?.factory;
    if (!use.factory || !face || logins.credentials.some((c) => c.id === factoryLogin)) return logins;
    const { sealer } = context;
    const like = use.factory === 'only' ? kind : (logins.credentials[0]?.kind ?? kind);
    const one = {
      id: factoryLogin,
      name: 'the login after a reset',
      kind: like === 'ssh-key' ? kind : like,
      user: face.user,
      sealed: sealer.seal(face.password),
      second: null,
      raise: null,
      createdAt: 0,
    } as unknown as CredentialRow;
    if (use.factory === 'only') return { ...logins, credentials: [one] };
    return { ...logins, credentials: logins.refusedHere ? [one, ...logins.credentials] : [...logins.credentials, one] };
  }

  /** The host key that its shell showed last; null when no shell was opened. */
  get shownHostKey(): string | null {
    return this.#shownHostKey;
  }

  async #loginsOf(protocol: Door): Promise<Logins> {
    const known = this.#logins.get(protocol);
    if (known) return known;
    const all = await loginsOf(this.context, this.device, protocol);
    // Nobody has seen yet that it is the device: nothing of ours is sent.
    const found = this.use.factory === 'only' ? { ...all, credentials: [], wait: null } : all;
    this.#logins.set(protocol, found);
    return found;
  }

  /** A host key seen for the first time is pinned; another one later is refused. */
  async #openShell(signal: AbortSignal | undefined): Promise<OpenShell> {
    const { context, device, family } = this;
    if (this.#shell) return this.#shell;
    if (!hasShell(family)) throw new CauseError('service-fault', `family ${family.family} has no shell`);
    const logins = this.#asReset(await this.#loginsOf('ssh'), 'ssh-password');
    if (logins.credentials.length === 0) throw new CauseError('no-credential', `network ${device.network} names no SSH credential`);
    // After a reset it may have a new host key. The factory login is no secret; the serial is compared before any other is sent.
    const isReset = this.use.factory === 'only';
    const at = { host: device.address, port: logins.network.sshPort, hostKey: isReset ? null : (logins.row?.hostKey ?? null) };
    let refused: Error | null = null;
    for (const credential of logins.credentials)
      try {
        const open = await openShell(context, at, family, credential, signal);
        this.#shell = open;
        this.#shownHostKey = open.shell.hostKey;
        if (at.hostKey === null && !isReset) {
          if (logins.row) logins.row.hostKey = open.shell.hostKey;
          await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: device.id }, { hostKey: open.shell.hostKey }));
        }
        if (credential.id !== factoryLogin) await logins.opened(credential);
        return open;
      } catch (error) {
        const cause = asCause(error);
        // Named at once, so that a person can accept it without another discovery.
        if (cause instanceof CauseError && cause.code === 'host-key-changed') await noteShownKey(context, device.id, cause.detail);
        // Only a refused login, or a key of ours that cannot be used, is worth another credential; the next would meet the same silence.
        if (!(cause instanceof CauseError) || (cause.code !== 'login-refused' && cause.code !== 'key-unusable')) throw cause;
        if (cause.code === 'login-refused' && credential.id !== factoryLogin) await logins.refused(credential);
        refused = cause;
      }
    await logins.wait?.();
    throw refused!;
  }

  /** Its user agent; it needs no login. */
  async #sip(use: Use): Promise<Sip> {
    const { context, device } = this;
    const network = await context.db.keptOne(NetworkEntity, 'name', device.network);
    if (!network) throw new CauseError('service-fault', `the network ${device.network} is no longer known`);
    return {
      ask: async (request, timeoutMs) => {
        const answer = await askSip({ host: device.address, port: network.sipPort, timeoutMs, signal: use.signal }, request);
        this.#said.push(
          hideWords(
            hideSecrets(`${request.method}\n${request.body ?? ''}\n${answer.head.slice(0, longestPage)}`, this.family),
            this.#secrets(),
          ),
        );
        return answer;
      },
    };
  }

  /** Its agent, with the credential that it answers to; of what is asked and answered a record is kept. */
  async #snmp(use: Use): Promise<Snmp> {
    const { context, device } = this;
    const logins = await this.#loginsOf('snmp');
    if (logins.credentials.length === 0) throw new CauseError('no-credential', `network ${device.network} names no SNMP credential`);
    const said = (what: string, values: Iterable<string>): void =>
      void this.#said.push(hideWords(`${what}\n${[...values].join('\n').slice(0, longestPage)}`, this.#secrets()));
    const lines = (found: ReadonlyMap<string, string>): string[] => [...found].map(([oid, value]) => `${oid} = ${value}`);
    /** With what worked last, then with the others: a community that may read need not be one that may write. */
    const asSomebody = async <T>(timeoutMs: number, work: (target: SnmpTarget) => Promise<T>): Promise<T> => {
      let refused: WireError | null = null;
      for (const credential of logins.credentials)
        try {
          const access = snmpAccess(context, credential);
          const tries = 2;
          const done = await work({
            address: device.address,
            port: logins.network.snmpPort,
            access,
            timeoutMs: timeoutMs / (tries + 1),
            retries: tries,
          });
          await logins.opened(credential);
          return done;
        } catch (error) {
          if (use.signal?.aborted || !(error instanceof WireError) || error.fault === 'malformed') throw error;
          if (error.fault === 'login-refused') await logins.refused(credential);
          // That it may not be set says more than that another community is not answered.
          if (refused === null || error.fault === 'refused') refused = error;
        }
      throw refused!;
    };
    const texts = (values: Iterable<SnmpValue>): Map<string, string> => new Map([...values].map((v) => [v.oid, String(v.value)]));
    return {
      get: async (oids, limitMs) => {
        const found = texts((await asSomebody(limitMs, (target) => context.snmp.get(target, oids))).values());
        said(`GET ${oids.join(' ')}`, lines(found));
        return found;
      },
      walk: async (root, limitMs) => {
        const found = texts(await asSomebody(limitMs, (target) => context.snmp.walk(target, root, mostObjects, use.signal)));
        said(`WALK ${root}`, lines(found));
        return found;
      },
      set: async (values, limitMs) => {
        await asSomebody(limitMs, (target) => context.snmp.set(target, values));
        said(
          'SET',
          values.map(({ oid, value }) => `${oid} = ${value}`),
        );
      },
    };
  }

  #person(ask: AskPerson): AskPerson {
    return async (words, how) => {
      const answer = await ask(words, how);
      if (how.secret) this.#kept.push(answer);
      this.#said.push(`${words}\n${how.secret ? hideWords(answer, [answer]) : answer}`);
      return answer;
    };
  }

  /** Its ONVIF services, on the port of its pages; a login that worked goes with what is asked, in the camera's own time. */
  #onvif(name: ProcedureName, use: Use): Onvif {
    const { context, device } = this;
    return {
      ask: async ({ operation, path = onvifDeviceService.path, namespace = onvifDeviceService.namespace, body }, timeoutMs) => {
        const { network, credentials, opened, refused } = await this.#loginsOf('onvif');
        const target: HttpTarget = {
          host: device.address,
          port: network.httpPort,
          secure: false,
          access: null,
          timeoutMs,
          signal: use.signal,
        };
        if (this.#clockOffsetMs === null) {
          const told = await onvifClock(target);
          this.#clockOffsetMs = told === null ? 0 : told - Date.now();
        }
        const asked = async (login: { user: string; password: string } | null) => {
          const done = await askOnvif(target, { operation, path, namespace, body }, login, this.#clockOffsetMs!);
          const told = ofSettings(name) ? concealed : done.text.slice(0, longestPage);
          this.#said.push(hideWords(hideSecrets(`${operation} ${body}\n${told}`, this.family), this.#secrets()));
          const field = (at: string): string | null => {
            const names = at.split('.');
            return textOf(
              names.slice(0, -1).reduce((node, one) => findXml(node, one), done.answer),
              names.at(-1)!,
            );
          };
          return { field, fault: done.fault, text: done.text };
        };
        let last: WireError | null = null;
        for (const credential of credentials)
          try {
            const done = await asked({ user: credential.user ?? '', password: context.sealer.open(credential.sealed) });
            await opened(credential);
            return done;
          } catch (error) {
            if (!(error instanceof WireError) || error.fault !== 'login-refused') throw error;
            await refused(credential);
            last = error;
          }
        if (last !== null) throw last;
        return asked(null);
      },
    };
  }

  /** Its pages; of what is asked and answered a record is kept, but not of settings. */
  #web(name: ProcedureName, use: Use): Web {
    const said = (request: string, answer: { readonly status: number; readonly body: string }): void => {
      const body = ofSettings(name) ? concealed : answer.body.slice(0, longestPage);
      this.#said.push(hideWords(hideSecrets(`${request}\n${answer.status}\n${body}`, this.family), this.#secrets()));
    };
    return {
      get: async (path, limitMs, headers) => {
        const answer = await this.#asSomebody(use.signal, limitMs, (target) => this.#pages.ask(target, path, { headers }));
        said(`GET ${path}`, answer);
        return answer;
      },
      ask: async ({ path, ...request }, limitMs) => {
        const answer = await this.#asSomebody(use.signal, limitMs, (target) => this.#pages.ask(target, path, request));
        said(`${request.method} ${path}`, answer);
        return answer;
      },
    };
  }

  /** With the login that worked last, then with the others of its network in their order; the one that opens is kept. */
  async #asSomebody<T>(signal: AbortSignal | undefined, timeoutMs: number, work: (target: HttpTarget) => Promise<T>): Promise<T> {
    const logins = this.#asReset(await this.#loginsOf('http'), 'http-basic');
    const { network, credentials } = logins;
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
        const { headers } = await askHttp({ ...target(false, null), timeoutMs: 4000 }, '/');
        // Some devices answer plain pages only to send the browser to the secure ones.
        this.#secure = headers['location']?.toLowerCase().startsWith('https:') ?? false;
      } catch (error) {
        if (!(error instanceof WireError)) throw error;
        this.#secure = true;
      }
    }
    if (credentials.length === 0) return work(target(this.#secure, null));
    let refused: WireError | null = null;
    for (const [index, credential] of credentials.entries())
      try {
        const done = await work(target(this.#secure, httpAccess(this.context, credential)));
        if (index > 0) this.#logins.set('http', { ...logins, credentials: [credential, ...credentials.filter((_, i) => i !== index)] });
        if (credential.id !== factoryLogin) await logins.opened(credential);
        return done;
      } catch (error) {
        if (!(error instanceof WireError) || error.fault !== 'login-refused') throw error;
        if (credential.id !== factoryLogin) await logins.refused(credential);
        refused = error;
      }
    await logins.wait?.();
    throw refused!;
  }

  /** Where its boot loader takes files: as its family says, or as whoever looks after the work tells. */
  async #loader(use: Use): Promise<{ readonly host: string; readonly port: number | null }> {
    const face = this.family.faces?.loader;
    if (!face) throw new CauseError('service-fault', `family ${this.family.family} does not say where its boot loader takes files`);
    const { address, port = null } = face;
    if (address !== 'told') return { host: address, port };
    if (this.#toldAddress === null) {
      if (!use.person) throw new CauseError('service-fault', 'nobody is there to tell the address of its boot loader');
      this.#toldAddress = await this.#person(use.person)(`At which address does the boot loader of ${this.device.name} listen now?`, {
        fits: anyAddress,
        like: '192.0.2.7',
        secret: false,
      });
    }
    return { host: this.#toldAddress, port };
  }

  #carrier(use: Use): Carrier {
    const { link = null } = use;
    return async (file, how, limitMs) => {
      const onSent = (octets: number): void => use.onPushed?.(file, octets);
      const loader = how.as === undefined ? null : await this.#loader(use);
      if (how.over === 'tftp') {
        const { host, port } = loader ?? { host: this.device.address, port: null };
        let sent = 0;
        const put = { name: how.to, path: file.path, bytes: file.bytes, link, limitMs, signal: use.signal };
        try {
          await putTftp({ ...put, host, port: port ?? tftpPort, onSent: (octets) => onSent((sent = octets)) });
        } catch (error) {
          if (!(error instanceof WireError)) throw error;
          if (error.fault === 'refused') return { status: 400, body: error.detail };
          if (loader && sent === 0 && error.fault === 'timeout') throw new CauseError('loader-silent', error.detail);
          throw error;
        }
        return { status: 200, body: '' };
      }
      if (how.over === 'http-form' || how.over === 'http-body') {
        const as = how.over === 'http-form' ? ({ how: 'form', field: how.field, fields: how.fields } as const) : ({ how: 'body' } as const);
        const upload = { method: how.method, path: how.to, as, file, link, onSent, headers: how.headers };
        if (loader)
          return uploadHttp(
            { host: loader.host, port: loader.port ?? httpPort, secure: false, access: null, timeoutMs: limitMs, signal: use.signal },
            upload,
          );
        return this.#asSomebody(use.signal, limitMs, async (target) => {
          const cookie = this.#pages.cookies(target, how.to);
          const answer = await uploadHttp(target, { ...upload, headers: { ...how.headers, ...(cookie === '' ? {} : { cookie }) } });
          // A form is often answered with the page to look at next.
          return answer.location === null ? answer : this.#pages.ask(target, answer.location);
        });
      }
      const { network, credentials, row } = await this.#loginsOf('ssh');
      const [credential] = credentials;
      if (!credential) throw new CauseError('no-credential', `network ${this.device.network} names no SSH credential`);
      const at = { host: this.device.address, port: network.sshPort, hostKey: row?.hostKey ?? null };
      const place = await SshPlace.open(sshTargetOf(this.context, credential, at));
      const abort = (): void => place.close();
      use.signal?.addEventListener('abort', abort, { once: true });
      try {
        await (how.over === 'sftp' ? place.put(file, how.to, { link, onSent }) : place.copy(file, how.to, { link, onSent }));
        return { status: 200, body: '' };
      } catch (error) {
        if (error instanceof WireError && error.fault === 'refused') return { status: 400, body: error.detail };
        throw error;
      } finally {
        use.signal?.removeEventListener('abort', abort);
        place.close();
      }
    };
  }
}

/** Carries out one procedure, and lets go of the device. @throws CauseError */
export async function once(
  context: Context,
  device: DeviceRow,
  family: Family,
  name: ProcedureName,
  use: Use = {},
): Promise<ProcedureResult> {
  const touch = new Touch(context, device, family, use);
  try {
    return await touch.run(name);
  } finally {
    touch.close();
  }
}

/** The key that a device showed instead of the pinned one, from what was told of the refusal. */
async function noteShownKey(context: Context, device: string, detail: string): Promise<void> {
  const shown = /shows (SHA256:\S+?),/.exec(detail)?.[1];
  if (shown === undefined) return;
  await context.db.writeSurely(async (em) => em.nativeUpdate(DeviceEntity, { id: device }, { shownHostKey: shown }));
  context.live.changed('devices', [device]);
}
