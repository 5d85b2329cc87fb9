import { CauseError, normaliseConfiguration, pattern } from '@barrow/core';
import type { Family } from '@barrow/families';
import { hideSecrets } from './secrets.js';
import type { Touch } from './touch.js';

/** Refused lines are told up to so many. */
const mostTold = 40;

/**
 * Puts settings back into a device, and lets go of it: what it asks for a login may be another one then.
 *
 * @param text as they were saved; what the family leaves out of a comparison is not sent
 * @returns what the device refused of them, in its words, with nothing secret in it
 * @throws CauseError
 */
export async function putSettings(touch: Touch, family: Family, text: string): Promise<string[]> {
  if (!family.procedures.restore) throw new CauseError('service-fault', `family ${family.family} has no procedure restore`);
  const settings = normaliseConfiguration(text, family.configuration ?? { ignoreLines: [] });
  const { tables } = await touch.run('restore', { given: { settings }, secrets: secretsIn(settings, family) });
  touch.close();
  return (tables['refused'] ?? []).slice(0, mostTold).map((row) => hideSecrets(Object.values(row).join(' '), family));
}

/** What of the settings is secret, by its very letters. */
function secretsIn(settings: string, family: Family): string[] {
  const rules = (family.configuration?.secrets ?? []).map((source) => pattern(source));
  return settings.split('\n').flatMap((line) =>
    rules.flatMap((rule) => {
      const match = rule.matcher(line.trimEnd());
      return match.find() ? [match.group('secret') ?? ''] : [];
    }),
  );
}
