import type { NamedWave, Plan, planInput } from '@barrow/core';
import type { z } from 'zod';
import type { Devices } from '../devices/devices.js';
import { Refusal } from '../errors.js';

/** @throws Refusal when the gate of a wave is said that there is not, or of the last one a word that nothing waits for */
export function refuseUnknownGates(
  { waves }: Plan,
  named: readonly { readonly name: string }[],
  gates: Readonly<Record<string, { readonly approval?: boolean | undefined }>>,
): void {
  const names = waves.map((w) => w.name);
  for (const [name, { approval }] of Object.entries(gates)) {
    const wrong = (detail: string, next: string): Refusal => new Refusal(422, 'gate-unfit', 'The gate does not fit', detail, next);
    // None of those that it was named for is planned: that is told of them.
    if (!names.includes(name) && named.some((w) => w.name === name)) continue;
    if (!names.includes(name)) throw wrong(`There is no wave "${name}" in this plan.`, `Its waves are ${names.join(', ')}.`);
    if (approval === true && name === names.at(-1))
      throw wrong(`Nothing waits for an approval after the last wave, ${name}.`, 'Say it of the wave before, or leave it out.');
  }
}

/** Whom a person named for which wave. @throws Refusal when that cannot be */
export async function namedWaves(
  devices: Devices,
  asked: z.output<typeof planInput>['waves'],
  nameOf: Map<string, string>,
): Promise<NamedWave[]> {
  const wrong = (detail: string, next: string): Refusal => new Refusal(422, 'waves-unfit', 'The waves do not fit', detail, next);
  const into = new Map<string, string>();
  const named: NamedWave[] = [];
  for (const { name, devices: words } of asked) {
    if (named.some((w) => w.name === name)) throw wrong(`The wave "${name}" is named twice.`, 'Give each wave a name of its own.');
    const ids: string[] = [];
    for (const word of words) {
      const { row } = await devices.get(word);
      const other = into.get(row.id);
      if (other !== undefined) throw wrong(`${row.name} is named for the wave ${other}, and for ${name}.`, 'It goes in one of them.');
      into.set(row.id, name);
      nameOf.set(row.id, row.name);
      ids.push(row.id);
    }
    named.push({ name, devices: ids });
  }
  return named;
}
