import { createSocket, type Socket } from 'node:dgram';
import { isIPv6 } from 'node:net';
import { ownNow, ownPause } from '../own-time.js';

/** One kind of datagram that is sent to every address, and how its answer is told from others. */
export interface Question<A = unknown> {
  readonly name: string;
  readonly port: number;
  /** Questions of one group stop for an address when one of them is answered. */
  readonly group: string;
  /** The datagram for an address; `id` comes back with the answer. 31 bits. */
  readonly encode: (id: number, address: string) => Buffer;
  /** Reads an answer; null for anything that is none, whatever is wrong with it. */
  readonly decode: (datagram: Buffer) => { readonly id: number; readonly answer: A } | null;
}

export interface SweepInput {
  readonly addresses: readonly string[];
  readonly questions: readonly Question[];
  readonly packetsPerSecond: number;
  /** How often an address that has not answered is asked. */
  readonly tries: number;
  /** How long nothing may come after the last packet of a round, before the next begins; ten times that is the most. */
  readonly waitMs: number;
  readonly signal?: AbortSignal;
  readonly onAnswer: (answer: SweepAnswer) => void;
  readonly onProgress?: (sent: number, of: number) => void;
}

export interface SweepAnswer {
  readonly address: string;
  readonly question: Question;
  readonly answer: unknown;
}

export interface SweepResult {
  readonly sent: number;
  /** Addresses that answered anything. */
  readonly answered: number;
  /** Datagrams that came from an address or port that was not asked, or that could not be read. */
  readonly strange: number;
  readonly stopped: boolean;
}

/** The smallest room for datagrams that came and were not read yet; the default holds some 256 small ones. */
const receiveBuffer = 4 << 20;
const tickMs = 5;

/**
 * Asks every address the same questions over one paced socket (one more for IPv6), again for those that stayed silent.
 * The id of a request carries the question and the address, so that an answer must fit its source.
 */
export async function sweep(input: SweepInput): Promise<SweepResult> {
  const { addresses, questions } = input;
  const indexOf = new Map(addresses.map((a, i) => [a, i]));
  const groups = [...new Set(questions.map((q) => q.group))];
  const groupOf = questions.map((q) => groups.indexOf(q.group));
  const done = groups.map(() => new Uint8Array(addresses.length));
  const asked = new Uint8Array(addresses.length);
  let open = groups.length * addresses.length;
  let answered = 0;
  let sent = 0;
  let strange = 0;
  /** When the last answer came, in our own time. */
  let heardAt = 0;
  const span = addresses.length;
  const salt = Math.floor(performance.now() * 1000) % (0x7fffffff - questions.length * span);
  const stopped = (): boolean => input.signal?.aborted ?? false;

  const hear = (datagram: Buffer, from: { address: string; port: number }): void => {
    const index = indexOf.get(from.address);
    if (index !== undefined)
      for (const [q, question] of questions.entries()) {
        if (question.port !== from.port) continue;
        const read = question.decode(datagram);
        if (read === null || read.id !== salt + q * span + index) continue;
        const done1 = done[groupOf[q]!]!;
        if (done1[index]) return;
        done1[index] = 1;
        open--;
        heardAt = ownNow();
        if (!asked[index]) answered++;
        asked[index] = 1;
        input.onAnswer({ address: from.address, question, answer: read.answer });
        return;
      }
    strange++;
  };
  const sockets = new Map<boolean, Socket>();
  for (const six of new Set(addresses.map(isIPv6))) {
    const socket = createSocket({ type: six ? 'udp6' : 'udp4', recvBufferSize: receiveBuffer });
    socket.on('error', () => undefined);
    socket.on('message', hear);
    await new Promise<void>((resolve) => socket.bind(0, resolve));
    sockets.set(six, socket);
  }

  const pause = (ms: number): Promise<void> =>
    new Promise((resolve) => {
      const end = (): void => {
        clearTimeout(timer);
        input.signal?.removeEventListener('abort', end);
        resolve();
      };
      const timer = setTimeout(end, ms);
      input.signal?.addEventListener('abort', end);
    });

  try {
    for (let round = 0; round < input.tries && !stopped() && open > 0; round++) {
      let next = 0;
      const of = addresses.length * questions.length;
      const began = performance.now();
      let inRound = 0;
      while (next < of && !stopped()) {
        // By elapsed time, not by tick: a late timer sends what is due, and the rate holds.
        let due = Math.floor(((performance.now() - began + tickMs) / 1000) * input.packetsPerSecond) - inRound;
        while (due > 0 && next < of) {
          // All questions to one address one after the other, then the next address.
          const index = Math.floor(next / questions.length);
          const q = next % questions.length;
          next++;
          if (done[groupOf[q]!]![index]) continue;
          const address = addresses[index]!;
          const question = questions[q]!;
          sockets.get(isIPv6(address))!.send(question.encode(salt + q * span + index, address), question.port, address);
          sent++;
          inRound++;
          due--;
        }
        input.onProgress?.(round * of + next, input.tries * of);
        await pause(tickMs);
      }
      // Answers that still come are waited for, as long as they come; what we missed ourselves does not count as silence.
      const endsAt = ownNow() + 10 * input.waitMs;
      for (let quietFrom = ownNow(); open > 0 && !stopped(); quietFrom = Math.max(quietFrom, heardAt)) {
        const left = Math.min(quietFrom + input.waitMs, endsAt) - ownNow();
        if (left <= 0) break;
        await ownPause(left, input.signal);
      }
    }
  } finally {
    for (const socket of sockets.values()) socket.close();
  }
  return { sent, answered, strange, stopped: stopped() };
}
