import { CauseError, pattern } from '@barrow/core';

/** What a person said who had something to do by hand, or who was asked for something. */
export interface Said {
  readonly by: string;
  readonly note: string;
  /** What they were asked for; null: it is left. */
  readonly answer?: string | null;
  /** The whole rollout is stopped. */
  readonly stops?: boolean;
}

/** Nobody answers, since the device is to be left out. */
export class LeftUnanswered extends Error {
  constructor(readonly said: Said) {
    super('nobody answered');
  }
}

/** What is asked of a person: to do something, or to tell something. */
interface Asked {
  /** null: nothing is to be told, only done. */
  readonly question: Question | null;
  readonly resolve: (said: Said) => void;
}
export interface Question {
  readonly words: string;
  /** What an answer looks like, as a pattern in RE2 syntax; null: whatever it is. */
  readonly fits: string | null;
  /** An example of one; null: nobody gave one. */
  readonly like: string | null;
  readonly secret: boolean;
}

/** Those of whom something is asked that only a person can do or tell, by rollout and run. What is asked is journalled with the step; this forgets it at each stop. */
export class ByHandWork {
  readonly #asked = new Map<string, Asked>();
  static #key = (rollout: string, run: string): string => `${rollout}/${run}`;

  /** Waits until a person says that it is done, or answers. @throws CauseError when the service is stopped meanwhile */
  ask(rollout: string, run: string, signal: AbortSignal, question: Question | null = null): Promise<Said> {
    const key = ByHandWork.#key(rollout, run);
    return new Promise((resolve, reject) => {
      const leave = (): void => void this.#asked.delete(key);
      const stop = (): void => {
        leave();
        reject(new CauseError('service-fault', 'the service was stopped before anybody said that it was done'));
      };
      if (signal.aborted) return stop();
      signal.addEventListener('abort', stop, { once: true });
      this.#asked.set(key, {
        question,
        resolve: (said) => {
          leave();
          signal.removeEventListener('abort', stop);
          resolve(said);
        },
      });
    });
  }

  /** What somebody is asked to tell for this run now; null when nothing is. */
  questionOf(rollout: string, run: string): Question | null {
    return this.#asked.get(ByHandWork.#key(rollout, run))?.question ?? null;
  }

  /** A person says that it is done, or answers, or that it is left. @returns why not, when that is not what was asked */
  say(rollout: string, run: string, said: Said): 'nothing-asked' | 'asked-to-tell' | 'does-not-fit' | null {
    const asked = this.#asked.get(ByHandWork.#key(rollout, run));
    if (!asked) return 'nothing-asked';
    const { question } = asked;
    if (question === null) {
      if (said.answer != null) return 'nothing-asked';
    } else {
      if (said.answer === undefined) return 'asked-to-tell';
      if (said.answer !== null && question.fits !== null && !pattern(question.fits).matcher(said.answer).find()) return 'does-not-fit';
    }
    asked.resolve(said);
    return null;
  }

  /** All of a rollout for whom something is asked. */
  runsOf(rollout: string): string[] {
    return [...this.#asked.keys()].flatMap((key) => (key.startsWith(`${rollout}/`) ? [key.slice(rollout.length + 1)] : []));
  }
}
