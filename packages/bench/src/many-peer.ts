import { createSocket } from 'node:dgram';

/** Two hundred receivers in a process of their own, each at an address of its own; they say how long each took. */
interface Order {
  readonly port: number;
  readonly count: number;
  readonly blockSize: number;
  readonly windowSize: number;
}

process.on('message', (order: Order) => {
  void Promise.all(Array.from({ length: order.count }, (_, i) => fetchOne(`127.1.${1 + (i >> 7)}.${1 + (i & 127)}`, order))).then((ms) =>
    process.send!({ ms }),
  );
});

function fetchOne(from: string, { port, blockSize, windowSize }: Order): Promise<number> {
  return new Promise((resolve) => {
    const socket = createSocket({ type: 'udp4', recvBufferSize: 1 << 20, lookup: (address, _options, done) => done(null, address, 4) });
    let expected = 1;
    let peer = 0;
    let began = 0;
    let inWindow = 0;
    let again: NodeJS.Timeout;
    const ack = Buffer.from([0, 4, 0, 0]);
    const say = (block: number): void => {
      ack.writeUInt16BE(block & 0xffff, 2);
      socket.send(ack, 0, 4, peer, '127.0.0.1');
    };
    socket.on('message', (packet, sender) => {
      peer = sender.port;
      again.refresh();
      if (packet.readUInt16BE(0) === 6) return say(0);
      if (packet.readUInt16BE(2) !== (expected & 0xffff)) {
        // RFC 7440 §4: what is missing is asked for by acknowledging what came before it.
        if (inWindow > 0) {
          inWindow = 0;
          say(expected - 1);
        }
        return;
      }
      expected++;
      inWindow++;
      const last = packet.length < 4 + blockSize;
      if (last || inWindow === windowSize) {
        inWindow = 0;
        say(expected - 1);
      }
      if (!last) return;
      clearInterval(again);
      resolve(performance.now() - began);
      setTimeout(() => socket.close(), 200);
    });
    socket.bind(0, from, () => {
      began = performance.now();
      const ask = (): void => {
        if (peer !== 0) return say(expected - 1);
        socket.send(Buffer.from(`\0\u0001file\0octet\0blksize\0${blockSize}\0windowsize\0${windowSize}\0`, 'latin1'), port, '127.0.0.1');
      };
      again = setInterval(ask, 1000);
      ask();
    });
  });
}
process.send!({ ready: true });
