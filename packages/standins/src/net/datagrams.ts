import { createSocket } from 'node:dgram';

/** Answers datagrams at one address; what `answer` cannot bear is dropped. */
export async function answerDatagrams(
  address: string,
  port: number,
  answer: (text: string, from: { address: string; port: number }) => string | null,
): Promise<{ close(): Promise<void> }> {
  const socket = createSocket('udp4');
  socket.on('error', () => undefined);
  socket.on('message', (datagram, from) => {
    try {
      const said = answer(datagram.toString('utf8'), from);
      if (said !== null) socket.send(said, from.port, from.address);
    } catch {
      // Dropped.
    }
  });
  await new Promise<void>((resolve, reject) => {
    socket.once('error', reject);
    socket.bind(port, address, resolve);
  });
  return { close: () => new Promise((resolve) => socket.close(() => resolve())) };
}
