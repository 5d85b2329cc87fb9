import {
  runProcedure,
  type AskPerson,
  type CarriedFile,
  type Family,
  type ProcedureName,
  type ProcedureResult,
  type Onvif,
  type ProcedureRun,
  type Sip,
  type Snmp,
  type Web,
} from '@barrow/families';
import type { ShellSession, SharedLink } from '@barrow/wire';
import type { Context } from '../context.js';
import { withoutSecrets } from './secrets.js';

/** What procedures are given besides the device itself. */
export interface Use {
  readonly given?: Readonly<Record<string, string>>;
  /** What an upload carries, and the link that it shares. */
  readonly files?: readonly CarriedFile[];
  readonly link?: SharedLink | null;
  /** Waits until the device has fetched all of its image; so long nothing may move. */
  readonly fetched?: (limitMs: number) => Promise<void>;
  /** Asks whoever looks after the work. */
  readonly person?: AskPerson;
  /** What is given that may stand nowhere. */
  readonly secrets?: readonly string[];
  /**
   * Whether it may be met as after a reset, when none of our logins opens it. `only`: our logins are not sent, since nobody has seen yet
   * that it is the device.
   */
  readonly factory?: boolean | 'only';
  /** The login after a reset, where it is another one than the family names. */
  readonly factoryLogin?: { readonly user: string; readonly password: string } | null;
  readonly signal?: AbortSignal | undefined;
  readonly onPercent?: ((percent: number) => void) | undefined;
  /** Octets of a file that were pushed so far. */
  readonly onPushed?: ((file: CarriedFile, octets: number) => void) | undefined;
}

/** Procedures whose words are settings. */
export const ofSettings = (name: ProcedureName): boolean => name === 'configuration' || name === 'restore';

/** Stands in a conversation where a device told its settings, or was told them. */
export const concealed = '‹the settings, kept sealed as a backup›\n';

/** Carries out one procedure with what was opened for it. @throws CauseError, with nothing secret in it */
export async function carryOut(
  context: Context,
  family: Family,
  name: ProcedureName,
  over: {
    readonly shell: ShellSession | null;
    readonly web: Web | null;
    readonly sip?: Sip;
    readonly snmp?: Snmp;
    readonly onvif?: Onvif;
    readonly secrets: readonly string[];
  },
  use: Use & Pick<ProcedureRun, 'carry' | 'receive'>,
): Promise<ProcedureResult> {
  const { shell, web, sip = null, snmp = null, onvif = null } = over;
  // Settings are full of secrets: they are kept sealed as a backup, and nowhere else.
  if (ofSettings(name)) shell?.conceal(concealed);
  try {
    return await runProcedure(name, {
      family,
      shell,
      web,
      sip,
      snmp,
      onvif,
      person: use.person ?? null,
      fetched: use.fetched,
      given: use.given ?? {},
      timeScale: context.options.timeScale,
      signal: use.signal,
      onProgress: use.onPercent,
      carry: use.carry,
      receive: use.receive,
    });
  } catch (error) {
    throw withoutSecrets(error, family, over.secrets);
  } finally {
    shell?.conceal(null);
  }
}
