/** The steps of a run, in the order in which they are taken. */
export const stepNames = [
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
export type StepName = (typeof stepNames)[number];

/** What the scheduler has to know of a step, whatever it is called. */
export interface StepTraits {
  readonly whenLost: 'again' | 'ask';
  readonly stoppable: boolean;
  readonly writes: boolean;
  readonly down: boolean;
  readonly waits: boolean;
}

const plain: StepTraits = { whenLost: 'again', stoppable: true, writes: false, down: false, waits: false };

/** The traits of the steps that are known today. Activate and reboot change what a device is; everything else may be repeated. */
export const traitsOf: Readonly<Record<StepName, StepTraits>> = {
  preflight: plain,
  backup: plain,
  // A flash that is being written is finished.
  transfer: { ...plain, writes: true, stoppable: false },
  'verify-image': plain,
  activate: { ...plain, whenLost: 'ask', stoppable: false, writes: true },
  'confirm-next-boot': plain,
  reboot: { ...plain, whenLost: 'ask', stoppable: false, down: true, writes: true },
  return: { ...plain, down: true, waits: true },
  checks: { ...plain, waits: true },
};

/** In which stretch a step stands. */
export const stretchOf: Readonly<Record<StepName, string>> = {
  preflight: 'prepare',
  backup: 'prepare',
  transfer: 'transfer',
  'verify-image': 'transfer',
  activate: 'change',
  'confirm-next-boot': 'change',
  reboot: 'change',
  return: 'change',
  checks: 'change',
};

/** What a step is for, in the words that a person reads in a plan. */
export const stepMeaning: Record<StepName, string> = {
  preflight: 'reachable, login works, serial and version as planned, space, nothing unsaved',
  backup: 'save the running configuration',
  transfer: 'the device pulls the image into its storage',
  'verify-image': 'the device checks the file it took',
  activate: 'choose the image for the next boot',
  'confirm-next-boot': 'ask the device what it will boot next',
  reboot: 'restart the device',
  return: 'wait until it answers again',
  checks: 'version, next boot, restart, configuration',
};
