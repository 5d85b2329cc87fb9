import type { DeviceRow, ImageRow } from '../data/entities.js';
import type { Devices } from '../devices/devices.js';
import type { ImageStore } from '../images/store.js';
import type { MapService } from '../map/map.js';
import type { Holdings } from '../runner/holdings.js';
import type { Offers, Told } from './offers.js';
import type { Sites } from './sites.js';
import type { Transfers } from './transfers.js';
import type { Watches } from './watch.js';

/** What deliveries work with. */
export interface DeliveryParts {
  readonly map: MapService;
  readonly holdings: Holdings;
  readonly devices: Devices;
  readonly images: ImageStore;
  readonly offers: Offers;
  readonly sites: Sites;
  readonly transfers: Transfers;
  readonly watches: Watches;
  /** Why a device may not be touched now, or null. */
  readonly rolloutOf: (device: string) => string | null;
  readonly neededBy: (sha256: string) => string | null;
  readonly storeLogin: { readonly user: string; readonly password: string };
}

/** What others ask of the deliveries. */
export interface DeliveryBook {
  readonly parts: DeliveryParts;
  /** Whether one that has not ended, or another than this, counts on an image or file. */
  needs(sha256: string, except?: string): boolean;
  /** Where a device fetches an image that is in the store of its site; null while it is not. */
  fromSite(device: DeviceRow, image: ImageRow, name: string): Told | null;
}
