export { startService, type RunningService } from './service.js';
export type { ServiceOptions } from './context.js';
export { StartFailure } from './errors.js';
