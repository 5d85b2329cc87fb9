import type { Surroundings } from './surroundings.js';

/** What may be wrong with a device that runs another version than it came with; switched on by name, as faults are. */
export const ailments = [
  'port-down-on-new',
  'no-power-on-new',
  'bundle-apart-on-new',
  'routes-lost-on-new',
  'tunnel-down-on-new',
  'forwards-nothing-on-new',
  'hears-nobody-on-new',
  'other-root-on-new',
  'clock-lost-on-new',
  'picture-lost-on-new',
  'unregistered-on-new',
  'snmp-shut-on-new',
  'radios-lost-on-new',
  'unrecorded-on-new',
  'ring-open-on-new',
  'onvif-login-lost-on-new',
  'older-loader-on-new',
  'fallback-lost-on-new',
  'starts-from-works-on-new',
  'right-lost-on-new',
  'complains-on-new',
  'leaks-on-new',
  'flaps-on-new',
  'busier-on-new',
] as const;
export type Ailment = (typeof ailments)[number];

/** How a device fares, as HOST-RESOURCES-MIB and IF-MIB tell it. */
export interface Health {
  /** Of its memory, in units of 1024 octets. */
  readonly memory: { readonly size: number; readonly used: number };
  /** Percent of its processor's time. */
  readonly load: number;
  /** When a port last came up or went down, in hundredths of a second since the start; ports that are not named: never since. */
  readonly lastChange: ReadonlyMap<number, number>;
}

/** What it tells of what is around it, with what ails it. */
export function ailing(around: Surroundings, ails: (ailment: Ailment) => boolean): Surroundings {
  let told = around;
  if (ails('port-down-on-new')) {
    // The last port on which somebody is heard, or that is up at all.
    const port = told.neighbours.at(-1)?.port ?? told.ports.findLast((p) => p.up)?.index;
    told = {
      ...told,
      ports: told.ports.map((p) => (p.index === port ? { ...p, up: false } : p)),
      neighbours: told.neighbours.filter((n) => n.port !== port),
      power: told.power.map((p) => (p.port === port ? { ...p, delivering: false } : p)),
      forwarding: told.forwarding.filter((f) => f.port !== port),
    };
  }
  if (ails('no-power-on-new')) told = { ...told, power: told.power.map((p) => ({ ...p, delivering: false })) };
  if (ails('bundle-apart-on-new'))
    told = {
      ...told,
      aggregates: told.aggregates.slice(0, -1),
      ports: told.ports.filter((p) => p.type !== 161 || told.aggregates.length > 1),
    };
  if (ails('routes-lost-on-new')) told = { ...told, routes: Math.min(told.routes, 1) };
  if (ails('tunnel-down-on-new')) told = { ...told, ports: told.ports.map((p) => (p.type === 131 ? { ...p, up: false } : p)) };
  if (ails('hears-nobody-on-new')) told = { ...told, neighbours: [] };
  // Of all bridges the one that would be chosen last.
  if (ails('other-root-on-new')) told = { ...told, root: told.root === null ? null : '06:ff:ff:ff:ff:ff' };
  if (ails('ring-open-on-new')) told = { ...told, tree: told.tree.map((p) => ({ ...p, state: 'forwarding' })) };
  if (ails('forwards-nothing-on-new')) told = { ...told, forwarding: [] };
  return told;
}

/** Kibibytes of memory, and what of them a healthy device uses. */
const [memorySize, usedAtRest] = [262_144, 92_160];
const leakKbPerHour = 4096;

/** @param upSeconds how long it has run, in its own time */
export function healthOf(upSeconds: number, ails: (ailment: Ailment) => boolean, lastPort: number): Health {
  const hours = upSeconds / 3600;
  // It breathes a little, by its own clock and not by chance.
  const breath = Math.floor(upSeconds / 60) % 3;
  const leaked = ails('leaks-on-new') ? Math.floor(hours * leakKbPerHour) : 0;
  const changedAt = Math.floor(upSeconds / 300) * 30_000;
  return {
    memory: { size: memorySize, used: Math.min(memorySize, usedAtRest + breath * 64 + leaked) },
    load: (ails('busier-on-new') ? 34 : 11) + breath,
    lastChange: new Map(ails('flaps-on-new') && changedAt > 0 ? [[lastPort, changedAt]] : []),
  };
}
