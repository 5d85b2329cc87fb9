export { runCli } from './run.js';
export type { Io } from './output.js';
export { exit } from './errors.js';
