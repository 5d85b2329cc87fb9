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

/**
 * What may be done when the outcome of a begun step was lost: begin it again, or never without asking the device
 * what is true. Activate and reboot change what a device is; everything else may be repeated.
 */
export function whenLost(step: StepName): 'begin-again' | 'ask-device' {
  return step === 'activate' || step === 'reboot' ? 'ask-device' : 'begin-again';
}

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

/** Steps during which the device does not forward traffic. */
export function isDown(step: StepName): boolean {
  return step === 'reboot' || step === 'return';
}
