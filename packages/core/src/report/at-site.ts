import { cause } from '../causes/catalogue.js';
import { duration } from '../checks/restart.js';
import type { Instant, Ms } from '../units.js';

/** What is known of a device that somebody has to see to where it stands. */
export interface AtSite {
  readonly name: string;
  readonly serial: string;
  readonly model: string | null;
  /** Why it failed; null while nothing has. */
  readonly cause: string | null;
  /** Until when it may still be writing, whatever it shows; null: nothing says that it writes. */
  readonly writesUntil: Instant | null;
  readonly now: Instant;
  /** How long it may take to start. */
  readonly startsWithin: Ms;
  /** In words, each: what it hangs on, what powers it, where its console is plugged in. */
  readonly hangsOn: readonly string[];
  readonly poweredBy: readonly string[];
  readonly console: string | null;
  /** Who else goes dark when its power goes. */
  readonly alsoDark: readonly string[];
  readonly backup: string | null;
  readonly firmware: string;
  readonly target: string;
  /** Whom to tell. */
  readonly tell: string;
}

/** One thing to do, in its order; `warn`: what must not be done. */
export interface SiteStep {
  readonly text: string;
  readonly warn: boolean;
}

/** Nothing of it answers. */
const dark: ReadonlySet<string> = new Set([
  'never-returned',
  'went-silent',
  'unreachable',
  'rebooted-in-write',
  'power-left-off',
  'power-not-switched',
]);
/** It answers, and lets nobody in. */
const locked: ReadonlySet<string> = new Set([
  'locked-out',
  'console-refused',
  'address-refused',
  'login-lost',
  'login-refused',
  'host-key-changed',
]);

const clockOf = (at: Instant): string => {
  const moment = new Date(at);
  return [moment.getHours(), moment.getMinutes()].map((n) => String(n).padStart(2, '0')).join(':');
};

/**
 * What a person who stands before a device does, one after the other: what must not be done first, then what is cheapest to look at,
 * then what changes something, and a spare last.
 */
export function siteSteps(it: AtSite): SiteStep[] {
  const steps: SiteStep[] = [];
  const say = (text: string): void => void steps.push({ text, warn: false });
  const warn = (text: string): void => void steps.push({ text, warn: true });
  const isDark = it.cause !== null && dark.has(it.cause);
  const isLocked = it.cause !== null && locked.has(it.cause);
  const mayWrite = it.writesUntil !== null && it.writesUntil > it.now;
  if (mayWrite)
    warn(`Leave its power on until ${clockOf(it.writesUntil!)}: until then it may still be writing its flash, whatever its lights say.`);
  if (isLocked || (!isDark && it.cause !== null)) warn('Leave its power on: it runs, and a restart mends nothing of this.');
  say(
    `Find it: ${it.name}${it.model === null ? '' : `, a ${it.model}`}, serial ${it.serial} on its label${it.hangsOn.length > 0 ? `; it hangs on ${it.hangsOn.join(' and ')}` : ''}.`,
  );
  if (isDark) {
    say(
      it.poweredBy.length > 0
        ? `Look at its lights. None at all: look at what powers it first, ${it.poweredBy.join(' and ')}.`
        : 'Look at its lights. None at all: look at its plug and at the fuse; what powers it, nobody has told Barrow.',
    );
    if (it.alsoDark.length > 0) warn(`With its power goes that of ${it.alsoDark.join(', ')}.`);
    say(
      `Lights, and nothing answers: ${mayWrite ? `after ${clockOf(it.writesUntil!)} ` : ''}take its power away for ten seconds, give it again, and wait ${duration(it.startsWithin)}.`,
    );
  }
  if (isDark || isLocked)
    say(
      it.console === null
        ? 'Then its console: a serial cable to its front. Read what it says there while it starts, and write it down or photograph it.'
        : `Then its console, which is plugged into ${it.console}: read what it says there while it starts.`,
    );
  if (!isDark && it.cause !== null) say(cause(it.cause).next);
  if (isDark)
    say(
      `Nothing helps: put a spare in its place${it.model === null ? '' : `, a ${it.model} of the same revision`}. ${it.backup === null ? 'Of its settings nothing was saved in this rollout' : `Its settings are kept as backup ${it.backup}`}; it ran ${it.firmware} before, and was to run ${it.target}. Whoever sits at Barrow has the spare take its place: \`barrow device swap ${it.name} --for SPARE\`, or Swap on its page.`,
    );
  say(`Then tell ${it.tell} what you saw and did: Barrow looks at it again by their word, and takes nothing for granted.`);
  return steps;
}
