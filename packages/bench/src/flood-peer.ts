import { createSocket, type Socket } from 'node:dgram';

/** Somebody who asks for ten thousand files a second, from two hundred ports of one address, and acknowledges nothing. */
const ports = 200;
const sockets: Socket[] = [];
let asked = 0;
process.on('message', ({ port, file }: { port: number; file: string }) => {
  setInterval(() => {
    for (let i = 0; i < 100; i++) {
      const name = asked % 2 === 0 ? file : `no-${asked}`;
      sockets[asked++ % ports]!.send(
        Buffer.from(`\0\u0001${name}\0octet\0blksize\x001428\0`, 'latin1'),
        port,
        '127.0.0.1',
        () => undefined,
      );
    }
  }, 10);
});
for (let i = 0; i < ports; i++) {
  const socket = createSocket({ type: 'udp4', lookup: (address, _options, done) => done(null, address, 4) });
  await new Promise<void>((resolve) => socket.bind(0, '127.0.3.9', resolve));
  sockets.push(socket);
}
process.send!({ ready: true });
