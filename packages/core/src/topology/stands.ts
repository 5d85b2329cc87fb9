import type { DeviceId } from '../units.js';
import type { MapDevice, Topology } from './topology.js';

/**
 * On which device the machine hangs that has these hardware addresses, as the tables of the devices tell: the one that has learned
 * one of them (IEEE 802.1D filtering database) at a port where no other device of the map hangs. Where several have, the one that has
 * learned least there is nearest; null where none has, or nothing tells two apart.
 *
 * @param macs in small digits with colons
 */
export function standsAt(
  macs: readonly string[],
  devices: readonly Pick<MapDevice, 'id' | 'around'>[],
  { links }: Pick<Topology, 'links'>,
): DeviceId | null {
  const wanted = new Set(macs);
  const taken = new Set(links.flatMap(({ a, b }) => [`${a.device}|${a.port}`, `${b.device}|${b.port}`]));
  const found: { readonly device: DeviceId; readonly isEdge: boolean; readonly others: number }[] = [];
  for (const { id, around } of devices) {
    const at = around?.forwarding.find(({ mac }) => wanted.has(mac))?.port;
    if (around === null || at === undefined) continue;
    const port = around.ports.find((p) => p.index === at)?.name ?? `interface ${at}`;
    found.push({
      device: id,
      isEdge: !taken.has(`${id}|${port}`),
      others: around.forwarding.filter((f) => f.port === at).length,
    });
  }
  const near = found.some((f) => f.isEdge) ? found.filter((f) => f.isEdge) : found;
  near.sort((a, b) => a.others - b.others);
  const [first, second] = near;
  return first === undefined || second?.others === first.others ? null : first.device;
}
