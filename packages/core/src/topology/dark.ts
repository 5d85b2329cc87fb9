import type { DeviceId } from '../units.js';
import type { MapDevice, Topology } from './topology.js';

export interface Dark {
  readonly device: DeviceId;
  /** `power`: its last known feed goes; `connection`: it is cut off from the larger part; `parent`: what manages it is away. */
  readonly why: 'power' | 'connection' | 'parent';
  /** The device through which it loses it. */
  readonly through: DeviceId;
}

/** Ready to be asked about many devices. */
export class DarkIf {
  readonly #fedBy = new Map<DeviceId, Set<DeviceId>>();
  readonly #feeds = new Map<DeviceId, Set<DeviceId>>();
  readonly #next = new Map<DeviceId, Set<DeviceId>>();
  readonly #children = new Map<DeviceId, DeviceId[]>();
  readonly #ids: readonly DeviceId[];
  readonly #keepsPower: ReadonlySet<DeviceId>;

  constructor(devices: readonly Pick<MapDevice, 'id' | 'parent' | 'keepsPower'>[], topology: Pick<Topology, 'links' | 'feeds'>) {
    this.#ids = devices.map((d) => d.id);
    this.#keepsPower = new Set(devices.flatMap((d) => (d.keepsPower ? [d.id] : [])));
    const add = (map: Map<DeviceId, Set<DeviceId>>, key: DeviceId, value: DeviceId): void => {
      const set = map.get(key);
      if (set) set.add(value);
      else map.set(key, new Set([value]));
    };
    for (const { from, to } of topology.feeds) {
      add(this.#fedBy, to, from.device);
      add(this.#feeds, from.device, to);
    }
    for (const { a, b } of topology.links) {
      add(this.#next, a.device, b.device);
      add(this.#next, b.device, a.device);
    }
    for (const d of devices)
      if (d.parent !== null) {
        const list = this.#children.get(d.parent);
        if (list) list.push(d.id);
        else this.#children.set(d.parent, [d.id]);
      }
  }

  /** What goes dark while a device restarts, itself left out. One walk over links and feeds. */
  of(device: DeviceId): Dark[] {
    const found = new Map<DeviceId, Dark>();
    const gone = new Set([device]);
    const queue = this.#keepsPower.has(device) ? [] : [device];
    for (let from = queue.shift(); from !== undefined; from = queue.shift())
      for (const to of this.#feeds.get(from) ?? []) {
        if (gone.has(to) || ![...this.#fedBy.get(to)!].every((f) => gone.has(f))) continue;
        gone.add(to);
        found.set(to, { device: to, why: 'power', through: from });
        queue.push(to);
      }

    // What was connected with it falls into parts; all but the largest are cut off.
    const part = new Map<DeviceId, { size: number; members: DeviceId[]; through: DeviceId }>();
    const parts: { size: number; members: DeviceId[]; through: DeviceId }[] = [];
    for (const lost of gone)
      for (const begin of this.#next.get(lost) ?? []) {
        if (gone.has(begin) || part.has(begin)) continue;
        const one = { size: 0, members: [] as DeviceId[], through: lost };
        const stack = [begin];
        part.set(begin, one);
        while (stack.length > 0) {
          const at = stack.pop()!;
          one.members.push(at);
          for (const next of this.#next.get(at) ?? [])
            if (!gone.has(next) && !part.has(next)) {
              part.set(next, one);
              stack.push(next);
            }
        }
        one.size = one.members.length;
        parts.push(one);
      }
    parts.sort((a, b) => b.size - a.size);
    for (const { members, through } of parts.slice(1))
      for (const member of members) found.set(member, { device: member, why: 'connection', through });

    for (const parent of [device, ...found.keys()])
      for (const child of this.#children.get(parent) ?? [])
        if (child !== device && !found.has(child)) found.set(child, { device: child, why: 'parent', through: parent });
    return this.#ids.filter((id) => found.has(id)).map((id) => found.get(id)!);
  }
}
