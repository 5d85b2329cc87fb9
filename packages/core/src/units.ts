/** A count of octets. */
export type Bytes = number;
/** A span of time in milliseconds. */
export type Ms = number;
/** A moment, in milliseconds since 1970-01-01T00:00:00Z. */
export type Instant = number;
/** Lower-case hexadecimal SHA-256 (FIPS 180-4), 64 characters. */
export type Sha256 = string;

export type DeviceId = string;
export type RunId = string;
/** What a claim is on, e.g. `up:d-1`, `site:eelgate`. */
export type Key = string;
export type RolloutId = string;

/** What a device is; the words of the design, used in every record and filter. */
export const kinds = [
  'switch',
  'router',
  'access-point',
  'camera',
  'phone',
  'controller',
  'recorder',
  'base-station',
  'handset',
  'power-strip',
  'console-server',
  'other',
] as const;
export type Kind = (typeof kinds)[number];
