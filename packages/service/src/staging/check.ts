import { createSocket } from 'node:dgram';
import { CauseError, type StoreCheck, type StoreProtocol } from '@barrow/core';
import { askHttp, WireError } from '@barrow/wire';
import type { DeviceRow } from '../data/entities.js';
import type { Parts } from '../service.js';
import { isOwn } from './addresses.js';
import { Hands } from './hands.js';
import { checkName } from './requests.js';

const answerMs = 2000;

/** Asks the stores through each of their addresses, each site's address, and the devices that are named for their own view. */
export async function checkStores(parts: Parts, devices: readonly DeviceRow[], signal: AbortSignal): Promise<StoreCheck> {
  const { tftp, httpStore, sites, offers, context } = parts;
  const ask = (protocol: StoreProtocol, address: string): Promise<{ works: boolean; detail: string }> => {
    const store = protocol === 'tftp' ? tftp : httpStore;
    if (!store.state.listening) return Promise.resolve({ works: false, detail: store.state.fault ?? 'it does not listen' });
    return protocol === 'tftp' ? askTftp(address, tftp.port) : askFiles(address, httpStore.port, httpStore.secure, signal);
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
        const { gives } = await new Hands(context, device, family).run('reach', { given, files: [], link: null, signal });
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

/** A read request for nothing: an error in answer (RFC 1350 §5) shows that requests arrive there and answers come back. */
function askTftp(address: string, port: number): Promise<{ works: boolean; detail: string }> {
  return new Promise((resolve) => {
    const socket = createSocket(address.includes(':') ? 'udp6' : 'udp4');
    const end = (works: boolean, detail: string): void => {
      clearTimeout(timer);
      socket.close();
      resolve({ works, detail });
    };
    const timer = setTimeout(() => end(false, `no answer within ${answerMs / 1000} s`), answerMs);
    socket.on('error', (error) => end(false, error.message));
    socket.on('message', (packet) =>
      end(packet.readUInt16BE(0) === 5, packet.readUInt16BE(0) === 5 ? 'it answers' : 'something else answers there'),
    );
    socket.send(Buffer.concat([Buffer.from([0, 1]), Buffer.from(`${checkName}\0octet\0`, 'latin1')]), port, address);
  });
}

async function askFiles(host: string, port: number, secure: boolean, signal: AbortSignal): Promise<{ works: boolean; detail: string }> {
  try {
    const { status } = await askHttp({ host, port, secure, access: null, timeoutMs: answerMs, signal }, `/${checkName}`);
    const works = status === 403 || status === 404;
    return { works, detail: works ? 'it answers' : `something else answers there, with ${status}` };
  } catch (error) {
    if (!(error instanceof WireError)) throw error;
    return { works: false, detail: error.detail };
  }
}
