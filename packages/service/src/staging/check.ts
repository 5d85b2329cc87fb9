import { createHash } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { CauseError, type StoreCheck, type StoreProtocol } from '@barrow/core';
import { contentDigest, encodeAck, opcodes, WireError } from '@barrow/wire';
import type { DeviceRow } from '../data/entities.js';
import type { Context } from '../context.js';
import { isOwn } from './addresses.js';
import type { CheckFile } from './check-file.js';
import { once } from '../touch/touch.js';
import type { HttpStore } from './http-store.js';
import type { Offers } from './offers.js';
import type { Sites } from './sites.js';
import type { TftpStore } from './tftp-store.js';

const answerMs = 2000;

/** What is asked to answer, and by whom. */
interface Asked {
  readonly context: Context;
  readonly tftp: TftpStore;
  readonly httpStore: HttpStore;
  readonly sites: Sites;
  readonly offers: Offers;
  readonly checkFile: CheckFile;
}

/** Fetches from the stores through each of their addresses, each site's address, and the devices that are named for their own view. */
export async function checkStores(parts: Asked, devices: readonly DeviceRow[], signal: AbortSignal): Promise<StoreCheck> {
  const { tftp, httpStore, sites, offers, context, checkFile } = parts;
  const ask = (protocol: StoreProtocol, address: string): Promise<{ works: boolean; detail: string }> => {
    const store = protocol === 'tftp' ? tftp : httpStore;
    if (!store.state.listening) return Promise.resolve({ works: false, detail: store.state.fault ?? 'it does not listen' });
    return protocol === 'tftp'
      ? fetchByTftp(address, tftp.port, checkFile)
      : fetchByHttp(address, httpStore.port, httpStore.secure, checkFile, signal);
  };
  const stores = await Promise.all(
    (['tftp', 'http'] as const).flatMap((protocol) => {
      const store = protocol === 'tftp' ? tftp : httpStore;
      return store.hosts.map(async (address) => ({ protocol, address, port: store.port, ...(await ask(protocol, address)) }));
    }),
  );
  const told = await Promise.all(
    [...(await sites.names()).keys()].map(async (site) => {
      const address = sites.get(site).storeAddress;
      if (address === null) return null;
      if (!isOwn(address))
        return {
          site,
          address,
          works: null,
          detail: 'not an address of this machine: only a device of the site can tell whether it leads here',
        };
      return { site, address, ...(await ask('tftp', address)) };
    }),
  );
  const seen = await Promise.all(
    devices.map(async (device) => {
      const family = context.families.get(device.family ?? '');
      const address = await offers.storeAddressFor(device, offers.protocolFor(device));
      const at = { name: device.name, address };
      if (!family?.procedures.reach) return { ...at, reaches: null, detail: 'its family does not know how to have it ping' };
      try {
        const given = { storeAddress: address, storePort: String(tftp.port) };
        const { gives } = await once(context, device, family, 'reach', { given, signal });
        const reaches = gives['reached'] === 'yes';
        return {
          ...at,
          reaches,
          detail: reaches ? 'its own ping arrives' : 'its own ping is not answered: a filter or a route between them',
        };
      } catch (error) {
        if (!(error instanceof CauseError)) throw error;
        return { ...at, reaches: null, detail: `${error.code}: ${error.detail}` };
      }
    }),
  );
  return { stores, sites: told.flatMap((t) => (t ? [t] : [])), devices: seen };
}

/** Fetches the check file as a device would: the request at the store's port, the blocks from the new one that answers (RFC 1350 §4). */
function fetchByTftp(address: string, port: number, file: CheckFile): Promise<{ works: boolean; detail: string }> {
  return new Promise((resolve) => {
    const socket = createSocket(address.includes(':') ? 'udp6' : 'udp4');
    const parts: Buffer[] = [];
    let over = false;
    const end = (works: boolean, detail: string): void => {
      if (over) return;
      over = true;
      clearTimeout(timer);
      socket.close();
      resolve({ works, detail });
    };
    const timer = setTimeout(() => {
      const seconds = answerMs / 1000;
      end(false, parts.length === 0 ? `no answer within ${seconds} s` : `it begins to answer, and is not done after ${seconds} s`);
    }, answerMs);
    socket.on('error', (error) => end(false, error.message));
    socket.on('message', (packet, from) => {
      const code = packet.length >= 4 ? packet.readUInt16BE(0) : 0;
      if (code !== opcodes.data) return end(false, 'something else answers there');
      const block = packet.readUInt16BE(2);
      const fresh = block === parts.length + 1;
      if (fresh) parts.push(packet.subarray(4));
      socket.send(encodeAck(block), from.port, address, () => {
        // A block shorter than the others is the last (RFC 1350 §6); the socket closes once that is acknowledged.
        if (!fresh || packet.length === 516) return;
        const whole = Buffer.concat(parts).equals(file.content);
        end(whole, whole ? 'a file was fetched from it' : 'something else answers there');
      });
    });
    socket.send(Buffer.concat([Buffer.from([0, opcodes.rrq]), Buffer.from(`${file.name}\0octet\0`, 'latin1')]), port, address);
  });
}

async function fetchByHttp(
  host: string,
  port: number,
  secure: boolean,
  file: CheckFile,
  signal: AbortSignal,
): Promise<{ works: boolean; detail: string }> {
  try {
    const found = await contentDigest({ host, port, secure, access: null, timeoutMs: answerMs, signal }, `/${file.name}`);
    const works = found?.sha256 === createHash('sha256').update(file.content).digest('hex');
    return { works, detail: works ? 'a file was fetched from it' : 'something else answers there' };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    return { works: false, detail: error.detail };
  }
}
