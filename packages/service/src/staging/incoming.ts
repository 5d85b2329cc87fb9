import { randomBytes } from 'node:crypto';
import { CauseError, nearestNames } from '@barrow/core';
import type { Family, Receiving } from '@barrow/families';
import type { Context } from '../context.js';
import type { DeviceRow } from '../data/entities.js';
import { addressesOf } from './addresses.js';
import { once } from '../touch/touch.js';
import type { Offers } from './offers.js';
import type { Watches } from './watch.js';

/** Settings are texts; whatever is larger is none. */
const mostBytes = 4 << 20;

export interface Awaited {
  readonly name: string;
  readonly device: DeviceRow;
  readonly mostBytes: number;
  readonly arrived: (content: Buffer) => void;
}

/**
 * Files that devices send because they were told to: settings for a backup. Each is awaited from one device, under a name made
 * for it that nobody can guess, and held in memory only.
 */
export class Incoming {
  readonly #awaited = new Map<string, Awaited>();

  constructor(
    private readonly context: Context,
    private readonly offers: Offers,
    private readonly watches: Watches,
  ) {}

  /** What an address may send under a name. */
  find(address: string, name: string): Awaited | null {
    const one = this.#awaited.get(name);
    return one && addressesOf(one.device).includes(address) ? one : null;
  }

  /** The device from which something is awaited at an address. */
  deviceAt(address: string): DeviceRow | null {
    for (const one of this.#awaited.values()) if (addressesOf(one.device).includes(address)) return one.device;
    return null;
  }

  /** Why a file is not taken; a name that is awaited is told only to who is to send it. */
  whyNot(address: string, name: string): string {
    const names = [...this.#awaited.values()].filter((a) => addressesOf(a.device).includes(address)).map((a) => a.name);
    if (names.length === 0) return 'nothing is awaited from this address';
    const near = nearestNames(name, names).map((n) => `${n.name} (${n.how})`);
    return `not awaited under this name; awaited: ${near.join(', ')}`;
  }

  /** Opens a place for one file of a device. @throws CauseError when the store does not listen */
  async open(device: DeviceRow, family: Family): Promise<Receiving> {
    const name = `keep-${randomBytes(8).toString('hex')}`;
    const told = await this.offers.told({ device, name, secret: '' }, 'tftp');
    const given = { receiveName: name, storeAddress: told.address, storePort: String(told.port) };
    const reach = family.procedures.reach
      ? async () => {
          const { gives } = await once(this.context, device, family, 'reach', { given, signal: AbortSignal.timeout(60_000) });
          return gives['reached'] === 'yes';
        }
      : null;
    const watch = this.watches.begin({
      device,
      image: null,
      bytes: 0,
      fetchesFrom: device.fetchesFrom,
      told,
      protocol: 'tftp-write',
      reach,
    });
    let arrived: (content: Buffer) => void = () => undefined;
    const whole = new Promise<Buffer>((resolve) => (arrived = resolve));
    this.#awaited.set(name, { name, device, mostBytes, arrived });
    const end = (): void => {
      this.#awaited.delete(name);
      watch.end();
    };
    try {
      watch.needStore();
    } catch (error) {
      end();
      throw error;
    }
    return {
      given,
      end,
      content: async (limitMs) => {
        let timer: NodeJS.Timeout | undefined;
        const late = new Promise<null>((resolve) => (timer = setTimeout(() => resolve(null), limitMs)));
        const content = await Promise.race([whole, late]);
        clearTimeout(timer);
        if (content === null) throw new CauseError('never-asked', `${device.name} says that it has sent it, and nothing came`);
        return textOf(content);
      },
      explain: async (error) => (error instanceof CauseError ? watch.conclude(error) : error),
    };
  }
}

/** As the device wrote it: UTF-8 where it is that, else octet by octet (ISO 8859-1). */
function textOf(content: Buffer): string {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(content);
  } catch {
    return content.toString('latin1');
  }
}
