import { randomBytes } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { FileServer, WireError, type Guard } from '@barrow/wire';
import type { Context } from '../context.js';
import { StartFailure } from '../errors.js';
import type { ImageStore } from '../images/store.js';
import { hostsOf } from './addresses.js';
import type { CheckFile } from './check-file.js';
import type { Offers } from './offers.js';
import { startOf, startOfOffered, turnAway } from './requests.js';
import type { Sites } from './sites.js';
import type { LiveTransfer, Transfers, TransferStart } from './transfers.js';
import { steadyNow } from '../steady.js';

/** How often a port that another program has is tried again. */
const againAfter = 2000;

/** What a request is known by: the transfer that it becomes, and the octet that it begins with. */
interface Tag {
  readonly start: TransferStart;
  one: LiveTransfer | null;
  from: number;
}

/** Barrow's HTTP store: the offers behind a server of files. A port that is taken does not keep the service from starting. */
export class HttpStore {
  readonly #server: FileServer<Tag | null>;
  readonly hosts: readonly string[];
  readonly secure: boolean;
  /** What devices log in with where their family demands a login; made anew at every start. */
  readonly login = { user: 'store', password: randomBytes(12).toString('hex') };
  #port: number;
  #listening = false;
  #fault: string | null = null;
  #again: NodeJS.Timeout | null = null;
  #stopped = false;
  /** When a device was told to log in, until it does: only devices to which something is offered are here. */
  readonly #challenged = new Map<string, readonly number[]>();

  constructor(
    private readonly context: Context,
    parts: {
      readonly offers: Offers;
      readonly sites: Sites;
      readonly transfers: Transfers;
      readonly images: ImageStore;
      readonly check: CheckFile;
    },
  ) {
    const { offers, sites, transfers, images, check } = parts;
    const { httpStoreListen, httpStoreTls } = context.options;
    this.hosts = hostsOf(httpStoreListen);
    this.#port = httpStoreListen.port;
    this.secure = httpStoreTls !== null;
    this.#server = new FileServer<Tag | null>({
      hosts: this.hosts,
      port: this.#port,
      tls: httpStoreTls && readTls(httpStoreTls),
      isExpected: (address) => offers.deviceAt(address) !== null,
      answer: (request, peer) => {
        if (check.is(peer.address, request.path.slice(1)))
          return { kind: 'send', path: check.path, bytes: check.content.length, etag: check.name, guard: null, link: null, tag: null };
        const laid = offers.textFor(peer.address, request.path.slice(1));
        if (laid) return { kind: 'send', path: laid.path, bytes: laid.bytes, etag: laid.sha256, guard: null, link: null, tag: null };
        const offered = offers.findPath(peer.address, request.path);
        const device = offered?.device ?? offers.deviceAt(peer.address);
        const start = startOf(
          'http',
          peer,
          nameIn(request.path),
          {
            ...(request.range ? { range: request.range } : {}),
            ...(request.agent ? { agent: request.agent.slice(0, 80) } : {}),
          },
          device,
        );
        if (!offered) {
          const { known, why } = turnAway(offers, transfers, start, peer);
          return { kind: 'refuse', status: known ? 404 : 403, message: known ? 'not staged at this address' : why };
        }
        const { file } = offered;
        const demanded = context.families.get(offered.device.family ?? '')?.asks.login;
        const guard: Guard | null = demanded === undefined ? null : { how: demanded, ...this.login };
        return {
          kind: 'send',
          path: images.pathOf(file.sha256),
          bytes: file.bytes,
          etag: file.sha256,
          guard,
          link: sites.linkOf(offered.device.site),
          tag: { start: startOfOffered(start, offered), one: null, from: 0 },
        };
      },
      onChallenged: (tag) => {
        const start = tag?.start;
        if (start?.device) this.#challenged.set(start.device.id, [...this.#challengesOf(start.device.id), steadyNow()]);
      },
      onBegin: (tag, part, stop) => {
        if (!tag) return;
        if (tag.start.device) this.#challenged.delete(tag.start.device.id);
        tag.one = transfers.begin(tag.start);
        tag.one.stop = stop;
        tag.from = part.from;
        if (part.from > 0) transfers.progress(tag.one, part.from);
      },
      onProgress: (tag, sent) => tag?.one && transfers.progress(tag.one, tag.from + sent),
      onEnd: (tag, end, sent) => {
        if (!tag?.one) return;
        transfers.progress(tag.one, tag.from + sent);
        if (end.kind === 'broken' && end.closed) tag.one.facts.closed = true;
        const whole = tag.from + sent === tag.one.row.totalBytes;
        if (end.kind === 'broken') transfers.end(tag.one, 'broken', `broken after ${sent} octets: ${end.message}`);
        else
          transfers.end(tag.one, 'done', whole && tag.from === 0 ? 'whole' : `octets ${tag.from} to ${tag.from + sent - 1} were fetched`);
      },
      // What was not offered was written down when it was decided.
      onRefused: (peer, _request, why) => context.log.debug({ peer, why }, 'HTTP request refused'),
    });
  }

  /** How often a device was told to log in since a moment, and did not. */
  loginsMissing(device: string, since: number): number {
    return this.#challengesOf(device).filter((at) => at >= since).length;
  }

  #challengesOf(device: string): readonly number[] {
    return (this.#challenged.get(device) ?? []).slice(-20);
  }

  get port(): number {
    return this.#port;
  }

  get state(): { readonly listening: boolean; readonly fault: string | null } {
    return { listening: this.#listening, fault: this.#fault };
  }

  async start(): Promise<void> {
    try {
      this.#port = (await this.#server.start()).port;
      this.#listening = true;
      this.#fault = null;
    } catch (error) {
      if (!(error instanceof WireError)) throw error;
      if (this.#fault === null) this.context.log.error({ why: error.detail }, 'the HTTP store cannot listen; it is tried again');
      this.#fault = error.detail;
      this.#again = setTimeout(() => {
        if (!this.#stopped) void this.start();
      }, againAfter);
    }
  }

  async stop(): Promise<void> {
    this.#stopped = true;
    this.#listening = false;
    if (this.#again) clearTimeout(this.#again);
    await this.#server.stop();
  }
}

const nameIn = (path: string): string => path.replace(/^\/(get\/[0-9a-f]{32}\/)?/, '');

function readTls(files: { cert: string; key: string }): { cert: string; key: string } {
  try {
    return { cert: readFileSync(files.cert, 'utf8'), key: readFileSync(files.key, 'utf8') };
  } catch (error) {
    throw new StartFailure(
      'data-unusable',
      'The HTTP store cannot speak TLS',
      (error as Error).message,
      'Name a certificate and its key in PEM form with --http-store-cert and --http-store-key.',
    );
  }
}
