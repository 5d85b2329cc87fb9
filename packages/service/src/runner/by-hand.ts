import { CauseError } from '@barrow/core';

/** What a person said who had something to do by hand. */
export interface Said {
  readonly by: string;
  readonly note: string;
}

/** Those of whom something is asked that only a person can do, by rollout and run. What is asked is journalled with the step; this forgets it at each stop. */
export class ByHandWork {
  readonly #asked = new Map<string, (said: Said) => void>();
  static #key = (rollout: string, run: string): string => `${rollout}/${run}`;

  /** Waits until a person says that it is done. @throws CauseError when the service is stopped meanwhile */
  ask(rollout: string, run: string, signal: AbortSignal): Promise<Said> {
    const key = ByHandWork.#key(rollout, run);
    return new Promise((resolve, reject) => {
      const leave = (): void => void this.#asked.delete(key);
      const stop = (): void => {
        leave();
        reject(new CauseError('service-fault', 'the service was stopped before anybody said that it was done'));
      };
      if (signal.aborted) return stop();
      signal.addEventListener('abort', stop, { once: true });
      this.#asked.set(key, (said) => {
        leave();
        signal.removeEventListener('abort', stop);
        resolve(said);
      });
    });
  }

  /** A person says that it is done, or that it is left. @returns false when nothing was asked */
  say(rollout: string, run: string, said: Said): boolean {
    const asked = this.#asked.get(ByHandWork.#key(rollout, run));
    asked?.(said);
    return asked !== undefined;
  }

  /** All of a rollout for whom something is asked. */
  runsOf(rollout: string): string[] {
    return [...this.#asked.keys()].flatMap((key) => (key.startsWith(`${rollout}/`) ? [key.slice(rollout.length + 1)] : []));
  }
}
