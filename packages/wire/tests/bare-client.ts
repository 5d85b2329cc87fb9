import { createSocket, type Socket } from 'node:dgram';

/** A bare client socket, at an address of this machine: sends what it is told, hands out what comes. */
export async function bareClient(
  undo: (() => unknown)[],
  from = '127.0.0.1',
): Promise<{
  send: (packet: Buffer, port: number) => void;
  next: () => Promise<{ packet: Buffer; port: number }>;
  silent: () => boolean;
  socket: Socket;
}> {
  const socket = createSocket('udp4');
  const got: { packet: Buffer; port: number }[] = [];
  let wake: (() => void) | null = null;
  socket.on('message', (packet, sender) => {
    got.push({ packet, port: sender.port });
    wake?.();
  });
  await new Promise<void>((resolve) => socket.bind(0, from, resolve));
  undo.push(() => socket.close());
  return {
    socket,
    send: (packet, port) => socket.send(packet, port, '127.0.0.1'),
    next: async () => {
      while (got.length === 0) await new Promise<void>((resolve) => (wake = resolve));
      return got.shift()!;
    },
    silent: () => got.length === 0,
  };
}

export const rrq = (...fields: string[]) => Buffer.concat([Buffer.from([0, 1]), Buffer.from(`${fields.join('\0')}\0`, 'latin1')]);
export const ack = (block: number) => Buffer.from([0, 4, (block >> 8) & 255, block & 255]);
export const wrq = (...fields: string[]) => Buffer.concat([Buffer.from([0, 2]), rrq(...fields).subarray(2)]);
export const data = (block: number, content: Buffer | string) =>
  Buffer.concat([Buffer.from([0, 3, (block >> 8) & 255, block & 255]), Buffer.from(content)]);
/** What the next error that comes says (RFC 1350 §5), whatever comes before it. */
export async function errorTo(client: { readonly next: () => Promise<{ packet: Buffer }> }): Promise<string> {
  for (;;) {
    const { packet } = await client.next();
    if (packet.readUInt16BE(0) === 5) return packet.subarray(4, -1).toString('latin1');
  }
}
