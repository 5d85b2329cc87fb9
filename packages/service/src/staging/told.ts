import type { StoreProtocol } from '@barrow/core';
import type { Context } from '../context.js';
import type { DeviceRow, ImageRow } from '../data/entities.js';
import type { DeliveryBook } from './delivery-parts.js';
import type { Offers, Told } from './offers.js';

interface Parts {
  readonly context: Context;
  readonly offers: Offers;
  readonly deliveries: DeliveryBook;
}

/** Where a device fetches an image from: the store of its site, once the image is there, or ours. */
export async function toldFor(
  parts: Parts,
  device: DeviceRow,
  image: ImageRow,
): Promise<{ told: Told; protocol: StoreProtocol; bySite: boolean }> {
  const { offers, deliveries } = parts;
  const protocol = offers.protocolFor(device);
  const name = offers.nameFor(image, image.files[0]!, device);
  const own = deliveries.fromSite(device, image, name);
  if (own) return { told: own, protocol, bySite: true };
  const offered = offers.find(device.address, name);
  return { told: await offers.told(offered ?? { device, name, secret: '' }, protocol), protocol, bySite: false };
}

/** The same as procedures are given it. */
export async function toldValues(parts: Parts, device: DeviceRow, image: ImageRow): Promise<Record<string, string>> {
  const { told } = await toldFor(parts, device, image);
  const { user, password } = parts.deliveries.parts.storeLogin;
  return {
    deviceName: device.name,
    deviceMac: device.mac ?? '',
    deviceSerial: device.serial ?? '',
    imageFile: told.name,
    imageBytes: String(image.bytes),
    imageSha256: image.files[0]!.sha256,
    imageVersion: image.version,
    storeAddress: told.address,
    storePort: String(told.port),
    storeUrl: told.url,
    storeUser: user,
    storePassword: password,
  };
}
