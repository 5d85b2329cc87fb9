/** Who may run an image. */
export interface ImageScope {
  readonly family: string;
  readonly models: readonly string[];
  readonly hardwareRevisions: readonly string[];
  readonly variant: string;
}

/** What is known of the hardware that would run it; `null` is "not known", which never matches. */
export interface DeviceHardware {
  readonly family: string | null;
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly variant: string | null;
}

/** One thing that differed between image and device. */
export interface Mismatch {
  readonly field: 'family' | 'model' | 'hardware revision' | 'variant';
  readonly imageIsFor: string;
  readonly deviceIs: string;
}

/** Compares an image with a device's hardware; an empty answer means that it fits. */
export function mismatches(image: ImageScope, device: DeviceHardware): Mismatch[] {
  const found: Mismatch[] = [];
  const expect = (field: Mismatch['field'], allowed: readonly string[], is: string | null): void => {
    if (is === null || !allowed.includes(is))
      found.push({ field, imageIsFor: allowed.map((a) => a || 'plain').join(', '), deviceIs: is === null ? 'not known' : is || 'plain' });
  };
  expect('family', [image.family], device.family);
  expect('model', image.models, device.model);
  expect('hardware revision', image.hardwareRevisions, device.hardwareRevision);
  expect('variant', [image.variant], device.variant ?? '');
  return found;
}

/** The differences as one readable clause. */
export function describeMismatches(found: readonly Mismatch[]): string {
  return found.map((m) => `${m.field}: image is for ${m.imageIsFor}, device is ${m.deviceIs}`).join('; ');
}
