import { createSocket, type Socket } from 'node:dgram';

/** What a bad line does to datagrams, by shares of one; `seed` makes it do the same again. */
export interface BadLine {
  readonly loss: number;
  readonly twice: number;
  /** Held back until the next one has passed. */
  readonly late: number;
  readonly seed: number;
  /**
   * The answer to a request passes once, and that to the last block always: there are senders that skip a block when they hear the
   * one again, and never send again when they miss the other.
   */
  readonly endsPass?: boolean;
}

/** A small generator (mulberry32), so that a run that failed can be had again. */
function dice(seed: number): () => number {
  let a = seed >>> 0;
  return () => {
    a = (a + 0x6d2b79f5) >>> 0;
    let t = Math.imul(a ^ (a >>> 15), a | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  };
}

const isAbout = (packet: Buffer, block: number): boolean => packet.readUInt16BE(0) === 4 && packet.readUInt16BE(2) === block;
const answersRequest = (packet: Buffer): boolean => packet.readUInt16BE(0) === 6 || isAbout(packet, 0);

/** Stands between TFTP clients and a server on 127.0.0.1 and treats what passes as the bad line would. */
export class Relay {
  readonly #sockets: Socket[] = [];
  readonly #roll: () => number;
  lost = 0;
  doubled = 0;
  delayed = 0;

  constructor(
    private readonly server: number,
    private readonly line: BadLine,
  ) {
    this.#roll = dice(line.seed);
  }

  async #open(): Promise<Socket> {
    const socket = createSocket('udp4');
    await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
    this.#sockets.push(socket);
    return socket;
  }

  /** Sends on, or not, or twice, or after the next one. */
  #passer(): (send: () => void) => void {
    let held: (() => void) | null = null;
    return (send) => {
      const roll = this.#roll();
      if (roll < this.line.loss) {
        this.lost++;
        return;
      }
      if (held === null && roll < this.line.loss + this.line.late) {
        this.delayed++;
        held = send;
        return;
      }
      send();
      if (roll > 1 - this.line.twice) {
        this.doubled++;
        send();
      }
      held?.();
      held = null;
    };
  }

  /** The port that clients ask. Each request gets a pair of sockets of its own, as transfer identifiers want it. */
  async start(): Promise<number> {
    const front = await this.#open();
    const pairs = new Map<number, Promise<(packet: Buffer) => void>>();
    front.on('message', (packet, client) => {
      let pair = pairs.get(client.port);
      if (!pair) {
        pair = (async () => {
          const [toServer, toClient] = await Promise.all([this.#open(), this.#open()]);
          const [down, up] = [this.#passer(), this.#passer()];
          let peer = 0;
          let last: number | null = null;
          toServer.on('message', (p, from) => {
            const pass = () => toClient.send(p, client.port, '127.0.0.1');
            const first = peer === 0;
            peer = from.port;
            if (this.line.endsPass && answersRequest(p)) return first && pass();
            if (last !== null && isAbout(p, last)) pass();
            else down(pass);
          });
          toClient.on('message', (p) => {
            if (this.line.endsPass && p.length < 516) last = p.readUInt16BE(2);
            up(() => toServer.send(p, peer, '127.0.0.1'));
          });
          // Requests pass unharmed: losing them tests the client, not the server.
          return (p: Buffer) => toServer.send(p, this.server, '127.0.0.1');
        })();
        pairs.set(client.port, pair);
      }
      void pair.then((send) => send(packet));
    });
    return front.address().port;
  }

  stop(): void {
    for (const socket of this.#sockets) socket.close();
  }
}
