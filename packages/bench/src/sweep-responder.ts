import { createSocket } from 'node:dgram';

/**
 * A thousand devices in one process, each at an address of its own, on a line that loses a share of the datagrams each way.
 * They answer an SNMP GET by turning the request into a response, without decoding it.
 */
const [, , countText = '1000', lossText = '0.02', apartText = '65', portText = '16161'] = process.argv;
const loss = Number(lossText);
let seed = 4711;
const lost = (): boolean => {
  seed = (Math.imul(seed, 1_103_515_245) + 12_345) >>> 0;
  return seed / 2 ** 32 < loss;
};
const count = Number(countText);
let open = 0;
for (let i = 0; i < count; i++) {
  const index = i * Number(apartText) + 7;
  const socket = createSocket({ type: 'udp4', recvBufferSize: 1 << 16 });
  socket.on('message', (datagram, from) => {
    if (lost() || lost()) return;
    const at = datagram.indexOf(0xa0);
    if (at < 0) return;
    datagram[at] = 0xa2;
    socket.send(datagram, from.port, from.address);
  });
  socket.bind(Number(portText), `127.150.${index >> 8}.${index & 255}`, () => {
    if (++open === count) process.send!('ready');
  });
}
process.on('disconnect', () => process.exit(0));
