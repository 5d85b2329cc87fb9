import { createSocket } from 'node:dgram';
import { networkInterfaces } from 'node:os';
import type { DeviceRow } from '../data/entities.js';

/** Where to listen: one address, or several with commas between them. A wildcard is taken apart into the addresses of this machine,
 * because an answer has to come from the very address that was asked (RFC 1350 §4 ties a transfer to both ends). */
export function hostsOf(listen: { readonly host: string }): string[] {
  const hosts = listen.host
    .split(',')
    .map((h) => h.trim())
    .filter((h) => h !== '');
  return [
    ...new Set(hosts.flatMap((host) => (host === '0.0.0.0' || host === '::' ? ownAddresses(host === '::' ? null : 'IPv4') : [host]))),
  ];
}

/** The addresses of this machine's interfaces; link-local ones of IPv6 with their zone. */
function ownAddresses(family: 'IPv4' | null): string[] {
  return Object.entries(networkInterfaces()).flatMap(([name, all]) =>
    (all ?? [])
      .filter((a) => family === null || a.family === family)
      .map((a) => (a.family === 'IPv6' && a.address.startsWith('fe80') ? `${a.address}%${name}` : a.address)),
  );
}

/** Whether an address is one of this machine. */
export const isOwn = (address: string): boolean =>
  /^127\./.test(address) || address === '::1' || ownAddresses(null).some((own) => own.split('%')[0] === address);

/** Our own address on the way to a device; connecting a UDP socket asks the routing table and sends nothing. */
export function routeTo(address: string): Promise<string> {
  return new Promise((resolve, reject) => {
    const socket = createSocket(address.includes(':') ? 'udp6' : 'udp4');
    socket.on('error', reject);
    socket.connect(9, address, () => {
      resolve(socket.address().address);
      socket.close();
    });
  });
}

/** Every address from which a device may ask: its own, and those that persons have said are it. */
export const addressesOf = (device: Pick<DeviceRow, 'address' | 'addresses' | 'fetchesFrom'>): string[] => [
  ...new Set([device.address, ...device.addresses, ...device.fetchesFrom]),
];
