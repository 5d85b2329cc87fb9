/** A rule that sets the version for a set of devices. */
export interface TargetRule {
  readonly id: string;
  readonly family: string;
  readonly version: string;
  readonly model: string | null;
  readonly site: string | null;
  readonly device: string | null;
}

export interface Targeted {
  readonly id: string;
  readonly family: string | null;
  readonly model: string | null;
  readonly site: string;
}

/** One device says more than a model, a model more than a site; a rule with both says more than either. */
function weight(rule: TargetRule): number {
  return (rule.device !== null ? 4 : 0) + (rule.model !== null ? 2 : 0) + (rule.site !== null ? 1 : 0);
}

/** Finds the most specific rule for a device among all rules, grouped once by family. */
export class TargetFinder {
  readonly #byFamily = new Map<string, TargetRule[]>();

  constructor(rules: Iterable<TargetRule>) {
    for (const rule of rules) {
      const list = this.#byFamily.get(rule.family);
      if (list) list.push(rule);
      else this.#byFamily.set(rule.family, [rule]);
    }
    for (const list of this.#byFamily.values()) list.sort((a, b) => weight(b) - weight(a));
  }

  for(device: Targeted): TargetRule | null {
    if (device.family === null) return null;
    return (
      this.#byFamily
        .get(device.family)
        ?.find(
          (r) =>
            (r.device === null || r.device === device.id) &&
            (r.model === null || r.model === device.model) &&
            (r.site === null || r.site === device.site),
        ) ?? null
    );
  }
}
