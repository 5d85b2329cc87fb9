import { createSocket } from 'node:dgram';

/**
 * The other process of the TFTP bench, kept alive through it. It asks for a file over and over, either from the real
 * server or from a bare datagram exchange of the same sizes, and says after each file how long it took.
 */
const socket = createSocket({ type: 'udp4', recvBufferSize: 4 << 20, lookup: (address, _options, done) => done(null, address, 4) });
let blockSize = 512;
let windowSize = 1;
let server = 0;
let expected = 1;
let inWindow = 0;
let peer = 0;
let began = 0n;
const ack = Buffer.from([0, 4, 0, 0]);

const sendAck = (block: number): void => {
  ack.writeUInt16BE(block & 0xffff, 2);
  socket.send(ack, 0, 4, peer, '127.0.0.1');
};

socket.on('message', (packet, from) => {
  const opcode = packet.readUInt16BE(0);
  if (opcode === 6) {
    peer = from.port;
    return sendAck(0);
  }
  if (opcode !== 3 || packet.readUInt16BE(2) !== (expected & 0xffff)) return;
  peer = from.port;
  expected++;
  inWindow++;
  const last = packet.length < 4 + blockSize;
  if (last || inWindow === windowSize) {
    inWindow = 0;
    sendAck(expected - 1);
  }
  if (last) process.send!({ ns: Number(process.hrtime.bigint() - began) });
});

process.on('message', (order: { port: number; file: string; blockSize: number; windowSize: number }) => {
  ({ blockSize, windowSize } = order);
  server = order.port;
  expected = 1;
  inWindow = 0;
  began = process.hrtime.bigint();
  const text = `\0\u0001${order.file}\0octet\0blksize\0${blockSize}\0windowsize\0${windowSize}\0`;
  socket.send(Buffer.from(text, 'latin1'), server, '127.0.0.1');
});
socket.bind(0, '127.0.0.1', () => process.send!({ ready: true }));
