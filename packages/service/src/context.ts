import type { Logger } from 'pino';
import type { Family, Receiving } from '@barrow/families';
import type { SnmpClient } from '@barrow/wire';
import type { Database } from './data/database.js';
import type { CredentialRow, DeviceRow } from './data/entities.js';
import type { Sealer } from './data/seal.js';
import type { Live } from './live.js';

export interface ServiceOptions {
  readonly dataFolder: string;
  readonly listen: { readonly host: string; readonly port: number };
  /** One address, or several with commas between them. */
  readonly tftpListen: { readonly host: string; readonly port: number };
  readonly httpStoreListen: { readonly host: string; readonly port: number };
  /** Files with the certificate and the key of the HTTP store; null: it speaks plain HTTP. */
  readonly httpStoreTls: { readonly cert: string; readonly key: string } | null;
  /** The address that devices are told to fetch from; null takes the one that the store listens on, or the route to the device. */
  readonly storeAddress: string | null;
  readonly familyFolder: string | null;
  /** Divides the spans of family files; above 1 only for the demo fleet, whose time runs faster. */
  readonly timeScale: number;
  readonly consoleFolder: string | null;
  /** Where the night sheets of rollouts under way are written; null: nowhere. */
  readonly sheetFolder: string | null;
  readonly logLevel: string;
  /** Makes another admin token and writes it into the data folder, for who lost the first. */
  readonly newAdminToken?: boolean;
}

/** Logins that had worked and are refused now, kept while the service runs. */
export interface LoginDoubts {
  /**
   * A device refuses a login with which it had let us in.
   *
   * @returns what is to be said where others refuse it as well; null: it is this one alone, as far as anybody knows
   */
  readonly refused: (context: Context, credential: CredentialRow, protocol: 'ssh' | 'http', device: DeviceRow) => Promise<string | null>;
  /** It was let in somewhere, or put in anew. */
  readonly forget: (credential: string) => void;
  /** What is to be said of a login that several refuse; null: nothing. */
  readonly standing: (credential: string) => string | null;
  /** Why a login is not to be tried now; null: it may be. Who is told so is the one who tries it. */
  readonly whyNot: (credential: string) => string | null;
  /** Who is in hand, and says nothing of a login: that may be lost there. */
  readonly leaveAlone: (inHand: () => ReadonlyMap<string, unknown>) => void;
  /** Whether the login of which such a detail tells is not tried yet. */
  readonly rests: (detail: string) => boolean;
}

/** What every part of the service works with. */
export interface Context {
  readonly options: ServiceOptions;
  readonly db: Database;
  readonly sealer: Sealer;
  readonly live: Live;
  readonly log: Logger;
  /** Grows when families are carried in. */
  readonly families: Map<string, Family>;
  /** The file that each family was read from, to be carried elsewhere. */
  readonly familyTexts: Map<string, string>;
  readonly snmp: SnmpClient;
  readonly doubts: LoginDoubts;
  /** Opens a place for a file that a device is to send; there once the stores are open. */
  receive: ((device: DeviceRow, family: Family) => Promise<Receiving>) | null;
}

export const rfc3339 = (at: number): string => new Date(at).toISOString();
export const rfc3339OrNull = (at: number | null | undefined): string | null => (at === null || at === undefined ? null : rfc3339(at));
