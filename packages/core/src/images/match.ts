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
  expect('variant', [image.variant], device.variant);
  return found;
}

/** The differences as one readable clause. */
export function describeMismatches(found: readonly Mismatch[]): string {
  return found.map((m) => `${m.field}: image is for ${m.imageIsFor}, device is ${m.deviceIs}`).join('; ');
}

/** A model of a family, as its file lists it; one line for each variant. */
export interface ListedModel {
  readonly model: string;
  readonly variant: string;
  /** A lone hyphen: the model has no revisions. */
  readonly revisions: readonly string[];
}

/**
 * The hardware of a device with what follows from its model: the variant where the family knows only one, and no revision
 * where the model has none. What has to be told by the device, and was not, stays unknown.
 */
export function knownHardware(models: readonly ListedModel[], told: DeviceHardware): DeviceHardware {
  const own = models.filter((m) => m.model === told.model);
  const variants = new Set(own.map((m) => m.variant));
  const unrevised = own.length > 0 && own.every((m) => m.revisions.length === 1 && m.revisions[0] === '-');
  return {
    ...told,
    variant: told.variant ?? (variants.size === 1 ? [...variants][0]! : null),
    hardwareRevision: unrevised ? '-' : told.hardwareRevision || null,
  };
}
