import { availableParallelism, loadavg } from 'node:os';
import { ownMissed, WireError } from '@barrow/wire';

/** What we missed ourselves while we asked, after which silence is asked again. */
const muchMissedMs = 200;
const longer = 4;

/** Whether more wants to run on this machine than it has processors for, by half. */
const isMachineBusy = (): boolean => loadavg()[0]! > 1.5 * availableParallelism();

/** Whether silence since then may be our own: we came late ourselves, or everything on this machine does. */
export const mayBeOurs = (missedBefore: number): boolean => ownMissed() - missedBefore > muchMissedMs || isMachineBusy();

/** Asks, and when the time ran out on a machine that had none, asks once more and waits four times as long. */
export async function patiently<T>(limitMs: number, ask: (limitMs: number) => Promise<T>, ours = mayBeOurs): Promise<T> {
  const missed = ownMissed();
  try {
    return await ask(limitMs);
  } catch (error) {
    if (!(error instanceof WireError) || error.fault !== 'timeout' || !ours(missed)) throw error;
    return ask(limitMs * longer);
  }
}
