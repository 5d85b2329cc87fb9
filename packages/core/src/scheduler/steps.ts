/** A step's verb: one of Barrow's own, or a procedure of the family. The scheduler never asks which. */
export type StepName = string;

/** What the scheduler has to know of a step, whatever it is called. */
export interface StepTraits {
  readonly whenLost: 'again' | 'ask';
  readonly stoppable: boolean;
  readonly writes: boolean;
  readonly down: boolean;
  readonly waits: boolean;
  /** It only looks: a device that is not fit to be begun with is as it was. */
  readonly looks: boolean;
  /** It sets something of the device aside for the time of the change, or puts that back: the one is never left without the other. */
  readonly sets?: 'aside' | 'back';
}

export const plainTraits: StepTraits = { whenLost: 'again', stoppable: true, writes: false, down: false, waits: false, looks: false };

/** The traits of the verbs that Barrow knows; a family may say more of its own. Activate and reboot change what a device is. */
const known: Readonly<Record<string, Partial<StepTraits>>> = {
  preflight: { looks: true },
  // A flash that is being written is finished.
  transfer: { writes: true, stoppable: false },
  activate: { whenLost: 'ask', stoppable: false, writes: true },
  reboot: { whenLost: 'ask', stoppable: false, down: true, writes: true },
  return: { down: true, waits: true },
  checks: { waits: true },
  // It is the same slot however often it is chosen.
  'fall-back': { stoppable: false, writes: true },
  // The same settings, however often they are put in.
  restore: { stoppable: false, writes: true },
  // The same settings and logins, however often they are set.
  'set-up': { stoppable: false, writes: true },
  // The same address, however often it is given.
  'by-console': { down: true, stoppable: false },
  // Off or on however often it is said; what is off is not left so.
  'cut-power': { down: true, stoppable: false },
  'give-power': { down: true, stoppable: false },
  // What it does to the device, nobody knows before.
  'by-hand': { waits: true },
  // To say it twice does no harm, and to have said it never does.
  confirm: { stoppable: false, writes: true },
  // To say either twice does no harm.
  'set-aside': { sets: 'aside' },
  'put-back': { sets: 'back' },
  settle: { waits: true },
  level: { stoppable: false, writes: true },
};
export const traitsOf = (step: StepName): StepTraits => ({ ...plainTraits, ...known[step] });

/** The steps that every run took before families said their own, in their order; plans of that time are read by it. */
export const firstSteps = [
  'preflight',
  'backup',
  'transfer',
  'verify-image',
  'activate',
  'confirm-next-boot',
  'reboot',
  'return',
  'checks',
] as const;

const meanings: Readonly<Record<string, string>> = {
  preflight: 'reachable, login works, serial and version as planned, space, nothing unsaved',
  backup: 'save the running configuration',
  transfer: 'bring the image into the storage of the device',
  'verify-image': 'the device checks the file it took',
  activate: 'choose the image for the next boot',
  'confirm-next-boot': 'ask the device what it will boot next',
  reboot: 'restart the device',
  return: 'wait until it answers again',
  checks: 'compare with what was before: version, restart, what it boots next, settings',
  'take-stock': 'ask what it is now, and whether it has to be restarted to go back',
  'fall-back': 'choose the version before for the next boot',
  restore: 'put the settings from before back, as they were saved on this version',
  'set-up': 'after the reset: log in with the factory login, compare the serial, restore the settings, prove the own login',
  'by-console': 'speak to it over its console, see that it is the one, and give it its address again',
  'cut-power': 'cut its power where it is fed, once nothing can be writing any more',
  'give-power': 'give it its power again',
  'by-hand': 'a person does what only hands can, and says so',
  confirm: 'tell the device to keep it: otherwise it falls back by itself',
  'set-aside': 'have others do for the time of the change what it does for them',
  'put-back': 'have it do again what was set aside',
  settle: 'after the soak: the checks again, and whether it has restarted meanwhile',
  level: 'bring its other copy to the same version; from then on that one leads back no more',
};

/** What a step is for, in the words that a person reads in a plan. */
export const stepMeaning = (step: StepName): string => meanings[step] ?? step.replaceAll('-', ' ');
