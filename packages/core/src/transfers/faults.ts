import type { StoreProtocol } from '../api/staging.js';
import type { CauseCode } from '../causes/catalogue.js';

/** One way in which a transfer goes wrong, and the cause that has to be named first. Tests and `docs/when-nothing-moves.md` read it. */
export interface TransferFault {
  readonly name: string;
  /** How the device fetches that it is tried on. */
  readonly by: readonly StoreProtocol[];
  /** What is wrong, as somebody would tell it who knows. */
  readonly what: string;
  readonly cause: CauseCode;
  /** What gives it away. */
  readonly sign: string;
}

export const transferFaults = [
  {
    name: 'port-taken',
    by: ['http'],
    what: "another program has the store's port",
    cause: 'store-not-listening',
    sign: 'the store could not bind its port',
  },
  {
    name: 'told-other-address',
    by: ['tftp'],
    what: 'the site names an address at which the store does not listen',
    cause: 'store-address-wrong',
    sign: 'the address is one of this machine, and the store is not there',
  },
  {
    name: 'goes-dark',
    by: ['tftp'],
    what: 'the device loses its power when it should fetch',
    cause: 'unreachable',
    sign: 'it answers nothing at all',
  },
  {
    name: 'way-blocked',
    by: ['tftp'],
    what: 'a filter or a missing route between device and store',
    cause: 'way-to-store-blocked',
    sign: 'it answers, no request comes, and its own ping of the store fails',
  },
  {
    name: 'never-asks',
    by: ['tftp', 'http'],
    what: 'the device asks nobody, or something else than the store',
    cause: 'never-asked',
    sign: 'it answers, no request comes, and its own ping of the store arrives',
  },
  {
    name: 'asks-from-elsewhere',
    by: ['tftp', 'http'],
    what: 'the device asks from another of its interfaces, or through a translated address',
    cause: 'asked-from-elsewhere',
    sign: 'the very file was asked for from an address that nobody knows',
  },
  {
    name: 'replies-dropped',
    by: ['tftp'],
    what: "a firewall drops the store's answers, which come from a new port",
    cause: 'reply-never-acknowledged',
    sign: 'the request is there, and not one answer was acknowledged',
  },
  {
    name: 'asks-in-capitals',
    by: ['tftp', 'http'],
    what: 'the name was typed in capital letters',
    cause: 'asked-other-name',
    sign: 'the name asked for is a staged one but for its case',
  },
  {
    name: 'asks-in-a-folder',
    by: ['tftp'],
    what: 'the device puts a folder before the name',
    cause: 'asked-other-name',
    sign: 'the name asked for ends in a staged one',
  },
  {
    name: 'ignores-window',
    by: ['tftp'],
    what: 'the device asks for a window and acknowledges every block',
    cause: 'options-not-kept',
    sign: 'nearly every acknowledgement moves on by one block, and more is sent again than moves',
  },
  {
    name: 'refuses-options',
    by: ['tftp'],
    what: 'the device refuses the options that it asked for',
    cause: 'options-not-kept',
    sign: 'error 8 from the device',
  },
  {
    name: 'large-blocks-lost',
    by: ['tftp'],
    what: 'a link on the way drops packets over a size',
    cause: 'large-blocks-lost',
    sign: 'the options are acknowledged, and the first large block never is',
  },
  {
    name: 'stalls',
    by: ['tftp'],
    what: 'the device falls silent in the middle',
    cause: 'transfer-stalled',
    sign: 'the same block is sent again and again',
  },
  {
    name: 'restarts-transfer',
    by: ['tftp', 'http'],
    what: 'the device gives up in the middle and begins anew, over and over',
    cause: 'transfer-restarts',
    sign: 'three tries and more, each with acknowledged blocks, and none came to its end',
  },
  {
    name: 'refuses-file',
    by: ['tftp'],
    what: 'the device takes every octet and then does not want the file',
    cause: 'image-refused',
    sign: 'all octets acknowledged, and a refusal in its own words',
  },
  {
    name: 'cuts-file',
    by: ['tftp'],
    what: 'the device keeps fewer octets than it took',
    cause: 'wrong-size-taken',
    sign: 'the size on the device is not that of the image',
  },
  {
    name: 'flash-full',
    by: ['tftp'],
    what: 'the flash is full in the middle of the transfer',
    cause: 'no-space',
    sign: 'error 3 from the device',
  },
  {
    name: 'damaged-in-transit',
    by: ['tftp', 'http'],
    what: 'octets are changed on the way or while they are written',
    cause: 'image-damaged',
    sign: 'the digest on the device is not that of the image',
  },
  {
    name: 'forgets-login',
    by: ['http'],
    what: 'the device does not log in at a store that asks for it',
    cause: 'store-login-missing',
    sign: 'requests came, and each was told to log in',
  },
  {
    name: 'closes-connection',
    by: ['http'],
    what: 'the device closes the connection in the middle, and gives up',
    cause: 'transfer-broken',
    sign: 'the connection was closed from the other end',
  },
] as const satisfies readonly TransferFault[];

export type TransferFaultName = (typeof transferFaults)[number]['name'];
