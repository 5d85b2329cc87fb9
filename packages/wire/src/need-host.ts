import { WireError } from './errors.js';

/**
 * Refuses an empty host before anything is opened: the sockets of Node.js take it for this machine itself, which would get
 * what was meant for a device.
 * @throws WireError `unreachable`
 */
export function needHost(host: string): void {
  if (host.trim() === '') throw new WireError('unreachable', 'the device has no address of its own');
}
