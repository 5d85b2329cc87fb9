import { createSocket } from 'node:dgram';

/** A device's own way of sending a file by TFTP: block after block, each again until it is acknowledged. @throws Error in its words */
export function put(use: {
  readonly from: string;
  readonly host: string;
  readonly port: number;
  readonly name: string;
  readonly content: Buffer;
  readonly timeoutMs: number;
}): Promise<void> {
  return new Promise((resolve, reject) => {
    const socket = createSocket('udp4');
    let size = 512;
    let block = 0;
    let peerPort: number | null = null;
    let tries = 0;
    let timer: NodeJS.Timeout;
    const finish = (error: Error | null): void => {
      clearTimeout(timer);
      socket.close();
      if (error) reject(error);
      else resolve();
    };
    const say = (): void => {
      const content = use.content.subarray((block - 1) * size, block * size);
      const packet =
        block === 0
          ? Buffer.from(`\0\u0002${use.name}\0octet\0blksize\x001024\0tsize\0${use.content.length}\0`, 'latin1')
          : Buffer.concat([Buffer.from([0, 3, (block >> 8) & 0xff, block & 0xff]), content]);
      socket.send(packet, peerPort ?? use.port, use.host);
      clearTimeout(timer);
      timer = setTimeout(late, use.timeoutMs);
    };
    const late = (): void => {
      if (++tries > 4) finish(new Error(`no answer from ${use.host}`));
      else say();
    };
    socket.on('error', finish);
    socket.on('message', (packet, from) => {
      if (from.address !== use.host || (peerPort !== null && from.port !== peerPort)) return;
      const opcode = packet.readUInt16BE(0);
      if (opcode === 5) return finish(new Error(`told: ${packet.toString('latin1', 4).replace(/\0.*$/, '')}`));
      if (opcode === 6) {
        const fields = packet.toString('latin1', 2).split('\0');
        size = Number(fields[fields.indexOf('blksize') + 1]);
      }
      if (opcode !== 6 && packet.readUInt16BE(2) !== (block & 0xffff)) return;
      peerPort = from.port;
      tries = 0;
      // A block shorter than the others was the last.
      if (block > 0 && block * size > use.content.length) return finish(null);
      block++;
      say();
    });
    socket.bind(0, use.from, say);
  });
}
