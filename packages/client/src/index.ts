export {
  BarrowClient,
  ProblemError,
  UnreachableError,
  type ClientOptions,
  type DevicePage,
  type DeviceQuery,
  type ImageUpload,
} from './client.js';
export {
  groupBy,
  heldText,
  isAtRest,
  localTime,
  neverCame,
  octets,
  previewText,
  restOf,
  noticesBeside,
  someOf,
  totalsOf,
  wayOf,
  withChanges,
} from './words.js';
