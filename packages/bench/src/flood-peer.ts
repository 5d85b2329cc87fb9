import { createSocket } from 'node:dgram';

/** Somebody who asks for ten thousand files a second, from one address, and acknowledges nothing. */
const socket = createSocket({ type: 'udp4', lookup: (address, _options, done) => done(null, address, 4) });
let asked = 0;
process.on('message', ({ port, file }: { port: number; file: string }) => {
  setInterval(() => {
    for (let i = 0; i < 100; i++)
      socket.send(
        Buffer.from(`\0\u0001${asked % 2 === 0 ? file : `no-${asked}`}\0octet\0blksize\x00${1428}\0`, 'latin1'),
        port,
        '127.0.0.1',
        () => undefined,
      );
    asked += 100;
  }, 10);
});
socket.bind(0, '127.0.3.9', () => process.send!({ ready: true }));
