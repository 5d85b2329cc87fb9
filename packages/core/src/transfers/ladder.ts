import type { CauseCode } from '../causes/catalogue.js';
import type { Instant } from '../units.js';
import { nearestNames } from './names.js';

/** The store that an image is offered at, as it stands. */
export interface StoreSeen {
  readonly protocol: 'tftp' | 'http';
  readonly listening: boolean;
  /** Why it does not listen. */
  readonly fault: string | null;
  /** Where it listens. */
  readonly addresses: readonly string[];
  readonly port: number;
  /** The address that the device is told. */
  readonly told: string;
  /** Whether that address is one of this machine at which the store does not listen. */
  readonly toldElsewhere: boolean;
}

/** What is known of the device while it is waited for. */
export interface FetcherSeen {
  readonly name: string;
  readonly addresses: readonly string[];
  /** Whether it answers anything at all; null: not asked. */
  readonly answers: boolean | null;
  /** Its own ping of the store; null: it cannot, or was not asked. */
  readonly ping: 'reached' | 'not-reached' | null;
}

/** A request that reached the store and began nothing. */
export interface RefusalSeen {
  readonly at: Instant;
  readonly address: string;
  readonly file: string;
  readonly why: string;
}

/** A transfer that was begun. */
export interface MoveSeen {
  readonly at: Instant;
  readonly file: string;
  readonly state: 'moving' | 'done' | 'broken';
  readonly blockSize: number;
  readonly windowSize: number;
  readonly askedOptions: Readonly<Record<string, string>>;
  readonly bytes: number;
  readonly totalBytes: number;
  readonly block: number;
  readonly resent: number;
  readonly acks: number;
  readonly singleSteps: number;
  readonly tries: number;
  readonly silentMs: number;
  /** The ERROR packet of the receiver, where it sent one. */
  readonly receiverError: { readonly code: number; readonly message: string } | null;
  /** The device closed the connection before all of it was sent (HTTP). */
  readonly closed: boolean;
}

export interface Evidence {
  readonly store: StoreSeen;
  readonly device: FetcherSeen;
  readonly file: string;
  readonly bytes: number;
  /** Names that are staged for this device. */
  readonly staged: readonly string[];
  readonly since: Instant;
  readonly now: Instant;
  /** How long nothing may come before one wonders, in milliseconds. */
  readonly patience: number;
  /** Refusals since then: of the device, and of addresses nobody knows that asked for this file. Oldest first. */
  readonly refusals: readonly RefusalSeen[];
  /** Until when another device was waited for that had not asked yet for a file of this name; null: there was none. */
  readonly othersWaitedUntil: Instant | null;
  /** Requests of the device since then that did not answer the store's demand for a login (HTTP). */
  readonly loginsMissing: number;
  /** Transfers to the device since then, oldest first. */
  readonly moves: readonly MoveSeen[];
  /** What the device said, by the cause that its family ties to it; null while it says nothing. */
  readonly words: { readonly cause: CauseCode; readonly text: string } | null;
  /** What the device holds afterwards, as far as it tells. */
  readonly holds: { readonly bytes: number | null; readonly sha256: string | null; readonly wanted: string } | null;
}

export interface TransferFinding {
  readonly cause: CauseCode;
  /** What was seen, in short sentences. */
  readonly evidence: readonly string[];
}

/** How long nothing may come before one wonders, in milliseconds. */
export const usualPatience = 15_000;
/** So often the same thing was sent again. */
const manyTries = 3;

/**
 * Works down what a good technician would look at, from the store outward to the device, and answers what does not go
 * well; the first finding is the cause. Empty: nothing is wrong, or it is too early to say.
 */
export function explainTransfer(e: Evidence): TransferFinding[] {
  const findings: TransferFinding[] = [];
  const add = (cause: CauseCode, ...evidence: string[]): void => {
    if (!findings.some((f) => f.cause === cause)) findings.push({ cause, evidence });
  };
  const { store, device } = e;
  const last = e.moves[e.moves.length - 1];
  const concluded = e.words !== null;
  const waited = e.now - e.since;

  if (!store.listening) add('store-not-listening', `The ${store.protocol} store does not listen: ${store.fault ?? 'it was stopped'}.`);
  if (last === undefined && store.listening && store.toldElsewhere)
    add(
      'store-address-wrong',
      `${device.name} is told to fetch from ${store.told}; the store listens on ${store.addresses.join(', ')}, port ${store.port}.`,
    );

  if (last) explainMove(e, last, add);
  else if (e.loginsMissing > 0) {
    // The first request of a device that waits to be asked for its login has none either.
    if (concluded || waited >= e.patience)
      add(
        'store-login-missing',
        `${device.name} asked ${count(e.loginsMissing, 'time')} and was told to log in; no request of it had the login that the store knows.`,
      );
  } else {
    explainRefusals(e, add);
    if (findings.length === 0 && (concluded || waited >= e.patience)) explainSilence(e, add);
  }
  if (e.words && findings.length === 0)
    add(
      last && last.state === 'broken' && e.words.cause === 'never-asked' ? 'transfer-broken' : e.words.cause,
      `${device.name} said: ${e.words.text}`,
    );
  return findings;
}

type Add = (cause: CauseCode, ...evidence: string[]) => void;

function explainRefusals(e: Evidence, add: Add): void {
  const own = e.refusals.filter((r) => e.device.addresses.includes(r.address));
  const asked = own[own.length - 1];
  if (asked) {
    if (asked.file !== e.file) {
      const near = nearestNames(asked.file, e.staged)[0];
      add(
        'asked-other-name',
        `${e.device.name} asked for "${asked.file}".`,
        `Staged for it is ${e.staged.length === 0 ? 'nothing' : e.staged.slice(0, 3).join(', ')}${near ? `: ${near.how}` : ''}.`,
      );
    } else add('transfer-broken', `${e.device.name} asked for ${asked.file} and was refused: ${asked.why}.`);
    return;
  }
  // A device that says that nobody answered has not heard our refusal: that was somebody else. While it says nothing,
  // a stranger is taken for it only when no other device was waited for under this name when it asked.
  if (e.words?.cause === 'never-asked') return;
  const others = e.words === null ? e.othersWaitedUntil : null;
  const strange = e.refusals.filter((r) => r.file === e.file && (others === null || r.at > others));
  const from = strange[strange.length - 1];
  if (from)
    add(
      'asked-from-elsewhere',
      `${e.file} was asked for from ${from.address}; ${e.device.name} is known at ${e.device.addresses.join(', ')}.`,
    );
}

function explainSilence(e: Evidence, add: Add): void {
  const { device, store } = e;
  const none = `No request from ${device.addresses.join(', ')} reached the store at ${store.told} port ${store.port}.`;
  if (device.answers === false) add('unreachable', none, `${device.name} itself answers nothing at all.`);
  else if (device.ping === 'not-reached') add('way-to-store-blocked', none, `Its own ping of ${store.told} is not answered either.`);
  else if (device.ping === 'reached')
    add(
      'never-asked',
      none,
      `Its own ping of ${store.told} arrives: look for a filter of ${store.protocol === 'tftp' ? 'UDP' : 'TCP'} port ${store.port}, or at what it was told.`,
    );
  else add('never-asked', none, ...(device.answers === true ? [`${device.name} answers otherwise.`] : []));
}

function explainMove(e: Evidence, last: MoveSeen, add: Add): void {
  const { device } = e;
  const error = last.receiverError;
  // Whoever asks anew has given the earlier ones up.
  const givenUp = e.moves.filter((m) => m !== last || m.state === 'broken');
  const size = `${last.bytes} of ${last.totalBytes} octets`;

  if (device.answers === false && last.state !== 'done') add('unreachable', `${device.name} answers nothing any more; ${size} had moved.`);
  if (error) {
    const said = `${device.name} ended the transfer with error ${error.code}: ${error.message}`;
    // RFC 1350: code 3 is disk full; RFC 2347: code 8 refuses the options.
    if (error.code === 3) add('no-space', said, `${size} had moved.`);
    else if (error.code === 8) add('options-not-kept', said, `It had asked for ${optionsText(last)}.`);
  } else if (e.words?.cause === 'no-space')
    // Its words may be here before what it sent to the store.
    add('no-space', `${device.name} said: ${e.words.text}`, `${size} had moved.`);
  const isTftp = e.store.protocol === 'tftp';
  // A device that erases its flash may say nothing for a while, and go on; one that has given up does not.
  const stands = (m: MoveSeen): boolean =>
    m.state === 'broken' || (e.words !== null && m.state === 'moving') || (m.tries >= manyTries && m.silentMs > e.patience / 2);
  const unheard = e.moves.filter((m) => isTftp && m.acks === 0 && m.state !== 'done' && stands(m));
  if (unheard.length > 0 && unheard.length === e.moves.length)
    add(
      'reply-never-acknowledged',
      `${device.name} asked for ${last.file}; the store answered ${count(last.resent + 1, 'time')} from a new port, and nothing came back.`,
    );
  // Sent once, or still held back for a link that others use too, a block proves nothing.
  const onlyOptions = e.moves.filter(
    (m) => isTftp && m.acks >= 1 && m.block === 0 && m.blockSize > 512 && m.receiverError === null && m.resent > 0,
  );
  if (onlyOptions.includes(last) && stands(last)) {
    const small = e.moves.find((m) => m.blockSize <= 512 && m.block > 0);
    add(
      'large-blocks-lost',
      `The options were acknowledged, but not the first block of ${last.blockSize} octets, sent ${count(last.resent + 1, 'time')}.`,
      ...(small ? [`Blocks of ${small.blockSize} octets did arrive.`] : []),
    );
  }
  if (last.windowSize > 1 && last.acks >= 8 && last.singleSteps >= last.acks * 0.8 && last.resent > last.block)
    add(
      'options-not-kept',
      `A window of ${last.windowSize} blocks was agreed, and ${device.name} acknowledges every single block.`,
      `${last.resent} blocks were sent again for it, ${last.block} have moved.`,
    );
  // Who goes on where the last try ended comes to the end that way.
  const resumes = e.moves.every((m, i) => i === 0 || (m.askedOptions['range'] !== undefined && m.bytes > e.moves[i - 1]!.bytes));
  if (e.moves.length >= 3 && !resumes && !e.moves.some((m) => m.state === 'done') && givenUp.every((m) => m.bytes > 0))
    add(
      'transfer-restarts',
      `${device.name} has begun ${count(e.moves.length, 'time')} and never finished; it came as far as ${e.moves
        .slice(-4)
        .map((m) => (isTftp ? `block ${m.block}` : `octet ${m.bytes}`))
        .join(', ')}.`,
    );
  if (last.state === 'done') explainTaken(e, last, add);
  else if (last.closed) {
    // It may begin anew at once.
    if (e.words !== null || e.now - last.at > e.patience)
      add('transfer-broken', `${device.name} closed the connection: ${size} had been sent.`);
  } else if (
    last.bytes > 0 &&
    error === null &&
    (isTftp ? stands(last) : last.state === 'broken' || e.words !== null || last.silentMs > e.patience / 2)
  ) {
    const others = [...new Set(e.moves.filter((m) => m !== last && m.block > 0).map((m) => m.block))];
    add(
      'transfer-stalled',
      isTftp ? `It stands at block ${last.block} (${size}); ${last.resent} blocks were sent again.` : `It stands at ${size}.`,
      ...(others.length > 0 ? [`Other tries came to block ${others.slice(-5).join(', ')}.`] : []),
    );
  }
  if (error && error.code !== 3 && error.code !== 8)
    add('transfer-broken', `${device.name} ended the transfer with error ${error.code}: ${error.message}`, `${size} had moved.`);
}

/** All octets went over; what the device makes of them. */
function explainTaken(e: Evidence, last: MoveSeen, add: Add): void {
  const { device, holds, words } = e;
  const isTftp = e.store.protocol === 'tftp';
  const whole = isTftp
    ? `All ${last.totalBytes} octets were acknowledged.`
    : `All ${last.totalBytes} octets were sent; HTTP does not tell how many arrived.`;
  if (words?.cause === 'no-space') add('no-space', whole, `${device.name} said: ${words.text}`);
  if (holds?.bytes !== null && holds?.bytes !== undefined && holds.bytes !== e.bytes)
    add('wrong-size-taken', whole, `${device.name} holds ${holds.bytes} octets, the image has ${e.bytes}.`);
  if (holds?.sha256 && holds.sha256 !== holds.wanted)
    add('image-damaged', whole, `On ${device.name} its digest is ${holds.sha256.slice(0, 16)}…, ours is ${holds.wanted.slice(0, 16)}….`);
  if (words) {
    // It took everything: whatever its words are tied to, it is a refusal of what it took.
    const cause = isTftp && (words.cause === 'never-asked' || words.cause === 'transfer-broken') ? 'image-refused' : words.cause;
    add(cause, whole, `${device.name} said: ${words.text}`);
  }
}

const count = (n: number, word: string): string => `${n} ${word}${n === 1 ? '' : 's'}`;
const optionsText = (m: MoveSeen): string =>
  Object.entries(m.askedOptions)
    .map(([name, value]) => `${name} ${value}`)
    .join(', ') || 'no options';
