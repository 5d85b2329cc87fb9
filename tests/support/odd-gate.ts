import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createHash } from 'node:crypto';
import { buffer } from 'node:stream/consumers';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { TftpServer } from '@barrow/wire';
import { barrow, folder } from './service.js';

/** How long it is away when it restarts, in milliseconds. */
const awayMs = 250;

/** A gate that nobody has seen: all of it is done over its pages, and it falls back by itself unless it is told to keep what it runs. */
export class OddGate {
  version = '1.0';
  /** What it goes back to unless it is told otherwise. */
  before: string | null = null;
  next: { readonly version: string; readonly sha256: string } | null = null;
  boots = 3;
  kept = 0;
  /** It says that it was told, and keeps nothing. */
  deaf = false;
  /** It lets people through; what it does not do while it is set aside. */
  serves = true;
  /** It cannot be had to serve again. */
  jammed = false;
  /** It takes by itself, some time later, what it was brought. */
  armed = false;
  /** What its own panel shows, and what it was told of that. */
  panel = 'kw-4711';
  typed: string[] = [];
  /** How far its clock is ahead, in milliseconds. */
  ahead = 3_600_000;
  /** It cannot tell whether it is armed. */
  forgetful = false;
  /** Where its boot loader listens, at the port of its pages. */
  loaderAddress: string | null = null;
  /** Its boot loader takes nothing. */
  full = false;
  #server: Server | null = null;
  #loader: TftpServer<null> | null = null;

  constructor(
    public name: string,
    readonly address: string,
    readonly port: number,
  ) {}

  start(): Promise<void> {
    return new Promise((resolve) => {
      this.#server = createServer((request, response) => void this.#answer(request, response)).listen(this.port, this.address, resolve);
    });
  }

  stop(): Promise<void> {
    return new Promise((resolve) => {
      const server = this.#server;
      this.#server = null;
      if (!server) return resolve();
      server.close(() => resolve());
      server.closeAllConnections();
    });
  }

  /** It restarts into a version. */
  async restart(into: string): Promise<void> {
    await this.stop();
    this.version = into;
    this.boots++;
    await new Promise((done) => setTimeout(done, awayMs));
    await this.start();
  }

  /** Somebody holds its button while it gets its power: it waits for an image, and is nothing else. */
  async intoLoader(): Promise<void> {
    await this.stop();
    this.#loader = new TftpServer<null>({
      host: this.loaderAddress ?? this.address,
      port: this.port,
      answer: () => (this.full ? { kind: 'refuse', code: 3, message: 'no room for it' } : { kind: 'take', mostBytes: 1 << 20, tag: null }),
      onEnd: (_tag, _end, _progress, _packets, content) => {
        if (content) void this.outOfLoader(/v(\S+)/.exec(content.subarray(0, 40).toString('latin1'))![1]!);
      },
    });
    await this.#loader.start();
  }

  async outOfLoader(into: string): Promise<void> {
    await this.#loader?.stop();
    this.#loader = null;
    await this.restart(into);
  }

  /** What its own watch does when nobody has told it to keep what it runs. */
  async fallBack(): Promise<void> {
    const to = this.before!;
    this.before = null;
    await this.restart(to);
  }

  async #answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const body = await buffer(request);
    response.setHeader('server', 'odd-gate');
    const say = (text: string): void => void response.end(`${text}\n`);
    switch (`${request.method} ${request.url}`) {
      case 'GET /':
        return say('<title>Odd gate</title>');
      case 'GET /state':
        return say(
          [
            `name ${this.name}`,
            'model OG-1',
            `serial G-${this.name}`,
            `version ${this.version}`,
            `boots ${this.boots}`,
            `held ${this.next?.sha256 ?? 'nothing'}`,
            `armed ${this.forgetful ? 'perhaps' : this.armed ? 'yes' : 'no'}`,
            `keeps ${this.before === null ? 'yes' : 'no'}`,
          ].join('\n'),
        );
      case 'PUT /image':
        this.next = {
          version: /v(\S+)/.exec(body.subarray(0, 40).toString('latin1'))![1]!,
          sha256: createHash('sha256').update(body).digest('hex'),
        };
        return say('taken');
      case 'POST /restart': {
        const { next, version } = this;
        say('restarting');
        this.before = version;
        response.on('finish', () => void this.restart(next!.version));
        return;
      }
      case 'POST /arm':
        this.armed = true;
        return say('armed');
      case 'POST /aside':
        this.serves = false;
        return say('aside');
      case 'POST /serve':
        if (this.jammed) {
          response.statusCode = 409;
          return say('jammed');
        }
        this.serves = true;
        return say('serving');
      case 'POST /keep':
        if (!this.deaf) this.before = null;
        this.kept++;
        return say('kept');
      case `POST /arm/${this.panel}`:
        this.typed.push(this.panel);
        this.armed = true;
        return say('armed');
      case 'POST /onvif/device_service':
        return this.#onvif(body.toString(), response);
      default:
        response.statusCode = 404;
        return say('nothing here');
    }
  }

  /** Its ONVIF service, which believes a token of its own time only (WS-Security UsernameToken profile 1.0 §3.1). */
  #onvif(asked: string, response: ServerResponse): void {
    const one = (name: string): string => new RegExp(`<(?:\\w+:)?${name}(?: [^>]*)?>([^<]*)<`).exec(asked)?.[1] ?? '';
    const now = new Date(Date.now() + this.ahead);
    const answer = (name: string, inside: string): void =>
      void response.end(
        `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body><d:${name} xmlns:d="http://www.onvif.org/ver10/device/wsdl">${inside}</d:${name}></e:Body></e:Envelope>`,
      );
    const refuse = (status: number, why: string): void => {
      response.statusCode = status;
      response.end(
        `<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body><e:Fault><e:Reason><e:Text>${why}</e:Text></e:Reason></e:Fault></e:Body></e:Envelope>`,
      );
    };
    const operation = /<tds:(\w+)/.exec(asked)?.[1];
    if (operation === 'GetSystemDateAndTime') {
      const [year, month, day, hour, minute, second] = now.toISOString().split(/\D/);
      return answer(
        'GetSystemDateAndTimeResponse',
        `<d:UTCDateTime><d:Time><d:Hour>${hour}</d:Hour><d:Minute>${minute}</d:Minute><d:Second>${second}</d:Second></d:Time><d:Date><d:Year>${year}</d:Year><d:Month>${month}</d:Month><d:Day>${day}</d:Day></d:Date></d:UTCDateTime>`,
      );
    }
    const sum = createHash('sha1')
      .update(Buffer.from(one('Nonce'), 'base64'))
      .update(one('Created'))
      .update('eye-word')
      .digest('base64');
    if (one('Username') !== 'eye' || one('Password') !== sum || Math.abs(Date.parse(one('Created')) - now.getTime()) > 60_000)
      return refuse(401, 'Sender not authorized');
    if (operation === 'GetDeviceInformation')
      return answer(
        'GetDeviceInformationResponse',
        `<d:Model>OG-1 &amp; more</d:Model><d:FirmwareVersion>${this.version}</d:FirmwareVersion>`,
      );
    if (operation === 'SetHostname') {
      this.typed.push(one('Name'));
      return answer('SetHostnameResponse', '');
    }
    if (operation !== 'SystemReboot') return refuse(400, 'Optional action not implemented');
    response.on('finish', () => void this.restart(this.next!.version));
    answer('SystemRebootResponse', '<d:Message>down for a moment</d:Message>');
  }
}

/** Its file, with the stretch that changes it, and more of its way. */
export const oddGateFamily = (change: string, more = 'guard: { reverts: 10 min }', pointOfNoReturn = 'reboot'): string => `
family: odd-gate
title: Odd gates
maker: Oddment
kind: power-strip
models: [{ model: OG-1, revisions: ['-'] }]
recognise: [{ http: { server: '^odd-gate' } }]
versions:
  patterns: ['(?P<major>\\d+)\\.(?P<minor>\\d+)']
  order: [{ part: major }, { part: minor }]
  write: '{major}.{minor}'
images:
  header: none
  names: [{ pattern: '^og1-(?P<version>[0-9.]+)\\.bin$', models: [OG-1], hardwareRevisions: ['-'] }]
travel: { how: pushed }
ways:
  - name: over its pages
    stretches:
      prepare: [{ preflight: 2 s }]
      transfer: [{ transfer: 2 s }, { verify-image: 2 s }]
      ${change}
    pointOfNoReturn: ${pointOfNoReturn}
    returns: { within: 2 min }
    ${more}
procedures:
  record:
    do:
      - get: /state
        capture: ['^name (?P<name>\\S+)$', '^serial (?P<serial>\\S+)$', '^version (?P<version>\\S+)$', '^boots (?P<boots>\\d+)$', '^model (?P<model>\\S+)$']
    gives: { name: '\${name}', serial: '\${serial}', firmware: '\${version}', model: '\${model}', bootCount: '\${boots}', hardwareRevision: '-', variant: '' }
  transfer:
    do: [{ upload: /image, over: http-body, method: PUT }]
  verify-image:
    do:
      - get: /state
        capture: ['^held (?P<held>\\S+)$']
      - check: { value: '\${held}', is: '\${imageSha256}' }
        cause: image-damaged
        detail: 'it holds \${held}'
    gives: { digest: '\${held}' }
  activate:
    do: [{ request: /arm }]
  set-aside:
    do: [{ request: /aside }]
  put-back:
    do: [{ request: /serve }]
  reboot:
    do: [{ request: /restart }]
  confirm-image:
    do:
      - request: /keep
      - get: /state
        capture: ['^keeps (?P<keeps>\\S+)$']
    gives: { confirmed: '\${keeps}' }
`;

/** What `family check` says of such a file: that it fits, or what is wrong with it. */
export async function checkedFamily(text: string): Promise<string> {
  const dir = folder();
  writeFileSync(join(dir.path, 'odd-gate.yaml'), text);
  const ran = await barrow(['family', 'check', join(dir.path, 'odd-gate.yaml')]);
  dir.remove();
  return ran.code === 0 ? 'fits' : ran.out + ran.err;
}
