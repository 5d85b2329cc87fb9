/** A rule that sets the version for a set of devices. */
export interface TargetRule {
  readonly id: string;
  /** Whose version it is; devices of this family are meant. */
  readonly family: string;
  readonly version: string;
  /** Families whose devices are to cross over to it. */
  readonly fromFamilies: readonly string[];
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly site: string | null;
  readonly tag: string | null;
  readonly device: string | null;
  /** Whether a candidate or beta of that version is meant. */
  readonly acceptUnreleased: boolean;
}

/** Keeps one device at a version, whatever the rules say. */
export interface Pin {
  readonly device: string;
  readonly version: string;
  readonly reason: string;
  /** The day after which it is asked again, as an RFC 3339 date. */
  readonly askAgain: string;
}

/** What a device should run, and by which rule. */
export interface Targeting {
  readonly rule: TargetRule | null;
  readonly pin: Pin | null;
  readonly family: string;
  readonly version: string;
  readonly acceptUnreleased: boolean;
  /** Why it is this rule and no other, in words. */
  readonly why: string;
  /** Two rules that say as much and say different things; null when they agree. */
  readonly conflict: string | null;
}

export interface Targeted {
  readonly id: string;
  readonly family: string | null;
  readonly model: string | null;
  readonly hardwareRevision: string | null;
  readonly site: string;
  readonly tags: readonly string[];
}

/** One device says more than a tag, a tag more than a hardware revision, that more than a model, that more than a site. */
const scopes = [
  ['device', 16, 'this device'],
  ['tag', 8, 'tag'],
  ['hardwareRevision', 4, 'hardware revision'],
  ['model', 2, 'model'],
  ['site', 1, 'site'],
] as const;

const weight = (rule: TargetRule): number => scopes.reduce((sum, [key, w]) => sum + (rule[key] !== null ? w : 0), 0);

/** What a rule is for, in words: `model TB-2424, site eelgate`, or `every device of the family`. */
export function describeScope(rule: TargetRule, device: string | null = null): string {
  const parts = scopes.flatMap(([key, , word]) =>
    rule[key] === null ? [] : [key === 'device' ? (device ?? word) : `${word} ${rule[key]}`],
  );
  return parts.length > 0 ? parts.join(', ') : 'every device of the family';
}

/** Finds the most specific rule for a device among all rules, grouped once by family; a pin comes before every rule. */
export class TargetFinder {
  readonly #byFamily = new Map<string, TargetRule[]>();
  readonly #pins: ReadonlyMap<string, Pin>;

  constructor(rules: Iterable<TargetRule>, pins: Iterable<Pin> = []) {
    for (const rule of rules)
      for (const family of new Set([rule.family, ...rule.fromFamilies])) {
        const list = this.#byFamily.get(family);
        if (list) list.push(rule);
        else this.#byFamily.set(family, [rule]);
      }
    for (const list of this.#byFamily.values()) list.sort((a, b) => weight(b) - weight(a));
    this.#pins = new Map([...pins].map((p) => [p.device, p]));
  }

  for(device: Targeted): Targeting | null {
    if (device.family === null) return null;
    const rules = (this.#byFamily.get(device.family) ?? []).filter((r) => covers(r, device));
    const rule = rules[0] ?? null;
    const pin = this.#pins.get(device.id) ?? null;
    if (pin) {
      const otherwise = rule ? `; without the pin it would be ${rule.version}` : '';
      const why = `pinned at ${pin.version} until ${pin.askAgain}: ${pin.reason}${otherwise}`;
      return { rule, pin, family: device.family, version: pin.version, acceptUnreleased: true, why, conflict: null };
    }
    if (!rule) return null;
    const rival = rules.find((r) => r !== rule && weight(r) === weight(rule) && (r.version !== rule.version || r.family !== rule.family));
    const less =
      rules.length > 1 ? `, before ${rules.length === 2 ? 'one rule that says' : `${rules.length - 1} rules that say`} less` : '';
    return {
      rule,
      pin: null,
      family: rule.family,
      version: rule.version,
      acceptUnreleased: rule.acceptUnreleased,
      why: `${describeScope(rule)}${less}`,
      conflict: rival
        ? `two targets say as much as each other: ${rule.version} (${describeScope(rule)}) and ${rival.version} (${describeScope(rival)}); remove one, or set one for the device itself`
        : null,
    };
  }
}

function covers(rule: TargetRule, device: Targeted): boolean {
  return (
    (rule.device === null || rule.device === device.id) &&
    (rule.tag === null || device.tags.includes(rule.tag)) &&
    (rule.hardwareRevision === null || rule.hardwareRevision === device.hardwareRevision) &&
    (rule.model === null || rule.model === device.model) &&
    (rule.site === null || rule.site === device.site)
  );
}
