export {
  BarrowClient,
  ProblemError,
  UnreachableError,
  type ClientOptions,
  type DevicePage,
  type DeviceQuery,
  type ImageUpload,
} from './client.js';
export { groupBy, localTime, octets, someOf, totalsOf } from './words.js';
