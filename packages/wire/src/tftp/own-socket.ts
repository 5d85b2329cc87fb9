import { createSocket, type Socket } from 'node:dgram';

/** A socket for one transfer; addresses are numbers already, and looking them up would put every packet off to the next tick. */
export function ownSocket(localAddress: string): Socket {
  const family = localAddress.includes(':') ? 6 : 4;
  return createSocket({ type: family === 6 ? 'udp6' : 'udp4', lookup: (address, _options, done) => done(null, address, family) });
}
