/** Ways in which a conversation over a wire fails, before anybody knows what it means for the work at hand. */
export type WireFault =
  | 'unreachable'
  | 'refused'
  | 'login-refused'
  | 'login-slow'
  | 'sessions-full'
  | 'clock-wrong'
  | 'key-unusable'
  | 'host-key-changed'
  | 'no-common-algorithm'
  | 'lost'
  | 'timeout'
  | 'malformed'
  | 'cancelled';

/** A failed conversation; `detail` says what was seen, in words fit to be shown. */
export class WireError extends Error {
  constructor(
    readonly fault: WireFault,
    readonly detail: string,
  ) {
    super(`${fault}: ${detail}`);
  }
}
