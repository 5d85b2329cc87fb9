import { describeRange, prove, rungText } from '@barrow/core';
import { isUpgradable, type Family } from './shape.js';

const named = (component: string): string => (component === 'system' ? 'a system' : `a ${component.replaceAll('-', ' ')}`);

/** What a family file makes possible with its devices, and what it does not and why, in sentences. */
export function whatWorks(family: Family): string[] {
  const { procedures, staging, ways, travel, images } = family;
  const has = (name: keyof typeof procedures): boolean => procedures[name] !== undefined;
  const told = (yes: boolean, can: string, cannot: string): string => (yes ? can : cannot);
  const through = travel?.how === 'through-parent' ? ', all of it through its parent' : '';
  return [
    told(
      family.recognise.length > 0,
      `It is recognised, and recorded${has('record') ? ' by its own words' : ' as far as the standards tell'}${through}.`,
      'It is recognised by nothing of its own: only its parent can tell of it.',
    ),
    told(images !== undefined, 'Its images are taken in.', 'No image of it is taken in: it has no `images`.'),
    told(
      staging !== undefined,
      staging?.keeps === 'children' ? `Images of ${staging.children.join(', ')} are put ahead there.` : 'An image is put there ahead.',
      'No image is put there ahead: it has no `staging`.',
    ),
    ...(has('join-line') ? ['Devices can be spoken to over its lines.'] : []),
    ...(isUpgradable(family)
      ? ways.map(({ name, component, from, stretches, recovery }) => {
          const { [prove]: after, ...rest } = stretches;
          const steps = Object.values(rest).flatMap((list) => list.map((s) => s.step));
          const back =
            recovery.length > 0 ? ` What fails past its point of no return can be ${recovery.map(rungText).join(', then ')}.` : '';
          const proven = after ? ` After the soak it can be looked at again (${after.map((s) => s.step).join(', ')}).` : '';
          return `${named(component)} is upgraded${from ? ` from ${describeRange(from)}` : ''}: ${name} (${steps.join(', ')}).${back}${proven}`.replace(
            /^a/,
            'A',
          );
        })
      : ['Nothing of it is upgraded: it has no `ways`.']),
    told(has('configuration'), 'Its settings are saved.', 'Its settings are not saved: there is no procedure `configuration`.'),
    ...(has('restore') ? ['Its settings can be put back from a backup.'] : []),
    ...(has('cut-power') ? ['It can cut the power of what it feeds, and give it again.'] : []),
    ...(isUpgradable(family)
      ? [
          told(
            procedures.record?.gives?.['bootCount'] !== undefined,
            'A restart is proven by its own count of boots.',
            'A restart is proven by its silence and its running time: `record` gives no `bootCount`.',
          ),
          ...(has('unsaved') && has('save')
            ? []
            : ['Settings that nobody saved cannot be shown or saved by Barrow: there is no `unsaved` and `save`.']),
        ]
      : []),
  ];
}
