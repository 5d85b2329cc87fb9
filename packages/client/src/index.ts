export {
  BarrowClient,
  ProblemError,
  UnreachableError,
  type ClientOptions,
  type DevicePage,
  type DeviceQuery,
  type ImageUpload,
} from './client.js';
export { localTime, octets, totalsOf } from './words.js';
