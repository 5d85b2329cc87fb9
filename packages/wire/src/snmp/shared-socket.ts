import { createSocket, type RemoteInfo, type Socket } from 'node:dgram';
import { EventEmitter } from 'node:events';
import { isIPv6 } from 'node:net';

/**
 * One UDP socket for many SNMP sessions. It hands a datagram only to the session that talks to its source address
 * and port, and a datagram that the decoder cannot bear is dropped instead of ending the process.
 */
export class SharedSocket {
  readonly #sockets = new Map<boolean, Socket>();
  readonly #byPeer = new Map<string, Set<SessionSocket>>();
  malformed = 0;

  constructor(private readonly receiveBuffer = 4 << 20) {}

  /** One socket for IPv4, and one for IPv6 when it is first needed. */
  #socketFor(address: string): Socket {
    const six = isIPv6(address);
    const found = this.#sockets.get(six);
    if (found) return found;
    // The default buffer holds some 256 small replies; many devices answer at once.
    const socket = createSocket({ type: six ? 'udp6' : 'udp4', recvBufferSize: this.receiveBuffer });
    this.#sockets.set(six, socket);
    socket.on('error', () => undefined);
    socket.on('message', (datagram, from) => {
      for (const session of this.#byPeer.get(`${from.address}/${from.port}`) ?? []) {
        try {
          session.emit('message', datagram, from);
        } catch {
          this.malformed++;
        }
      }
    });
    socket.unref();
    return socket;
  }

  /** What the SNMP library takes for the `dgram` module: sessions of one peer on the shared socket. */
  moduleFor(address: string, port: number): { createSocket: () => SessionSocket } {
    return {
      createSocket: () => {
        const key = `${address}/${port}`;
        const session = new SessionSocket(this.#socketFor(address), () => {
          const set = this.#byPeer.get(key);
          set?.delete(session);
          if (set?.size === 0) this.#byPeer.delete(key);
        });
        const set = this.#byPeer.get(key) ?? new Set();
        set.add(session);
        this.#byPeer.set(key, set);
        return session;
      },
    };
  }

  close(): void {
    for (const socket of this.#sockets.values()) socket.close();
    this.#sockets.clear();
  }
}

class SessionSocket extends EventEmitter<{ message: [Buffer, RemoteInfo]; close: []; error: [Error] }> {
  constructor(
    private readonly socket: Socket,
    private readonly leave: () => void,
  ) {
    super();
  }
  send(
    buffer: Buffer,
    offset: number,
    length: number,
    port: number,
    address: string,
    done: (error: Error | null, bytes: number) => void,
  ): void {
    this.socket.send(buffer, offset, length, port, address, done);
  }
  bind(): void {}
  ref(): void {
    this.socket.ref();
  }
  unref(): void {}
  close(): void {
    this.leave();
    this.emit('close');
  }
}
