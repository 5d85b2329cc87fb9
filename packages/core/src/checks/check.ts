import type { CauseCode } from '../causes/catalogue.js';

/** One comparison of before and after. */
export interface Check {
  readonly name:
    | 'version'
    | 'next boot'
    | 'restart'
    | 'settled'
    | 'configuration'
    | 'serial'
    | 'members'
    | 'address'
    | 'doors'
    | 'ports'
    | 'aggregates'
    | 'power'
    | 'neighbours'
    | 'forwarding'
    | 'spanning tree'
    | 'tunnels'
    | 'routes'
    | 'clock'
    | 'picture'
    | 'calls'
    | 'children'
    | 'recording'
    | 'ring'
    | 'logins'
    | 'boot loader'
    | 'boot list'
    | 'settings source'
    | 'licences'
    | 'log';
  readonly result: 'passed' | 'failed';
  readonly before: string;
  readonly after: string;
  /** The evidence in words, one line each. */
  readonly evidence: readonly string[];
  /** Named when it failed. */
  readonly cause: CauseCode | null;
}
