/** What sender and receiver agreed on for one transfer. */
export interface Agreed {
  /** RFC 2348: octets in a block, 8 to 65464; 512 when not asked. */
  readonly blockSize: number;
  /** RFC 7440: blocks sent before an acknowledgement is awaited, 1 to 65535. */
  readonly windowSize: number;
  /** RFC 2349: seconds before a packet is sent again, 1 to 255; null when not asked. */
  readonly timeout: number | null;
  /** The options to acknowledge, in the order asked; empty means that no OACK is sent. */
  readonly acknowledge: ReadonlyMap<string, string>;
}

/** The largest window that is granted: 64 blocks fill the receive buffers of small devices many times over. */
const largestWindow = 64;

const whole = (text: string): number | null => (/^\d{1,10}$/.test(text) ? Number(text) : null);

/**
 * Answers a request's options. RFC 2347 §2: an option that is not understood, or whose value makes no sense, is left
 * out of the acknowledgement, and the transfer goes on without it.
 */
export function negotiate(asked: ReadonlyMap<string, string>, fileBytes: number): Agreed {
  let blockSize = 512;
  let windowSize = 1;
  let timeout: number | null = null;
  const acknowledge = new Map<string, string>();
  for (const [name, text] of asked) {
    const value = whole(text);
    if (value === null) continue;
    switch (name) {
      case 'blksize':
        // RFC 2348: the server may answer a smaller value than asked, never a larger one.
        if (value < 8) continue;
        blockSize = Math.min(value, 65464);
        acknowledge.set(name, String(blockSize));
        break;
      case 'windowsize':
        // RFC 7440 §3: valid values are 1 to 65535; the server may answer less.
        if (value < 1 || value > 65535) continue;
        windowSize = Math.min(value, largestWindow);
        acknowledge.set(name, String(windowSize));
        break;
      case 'timeout':
        // RFC 2349: the value is answered as asked or not at all.
        if (value < 1 || value > 255) continue;
        timeout = value;
        acknowledge.set(name, String(value));
        break;
      case 'tsize':
        // RFC 2349: in a read request the client sends 0 and the server answers the size.
        acknowledge.set(name, String(fileBytes));
        break;
      default:
        break;
    }
  }
  return { blockSize, windowSize, timeout, acknowledge };
}
