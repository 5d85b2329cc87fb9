import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { FamilyFileError, loadFamilies, parseFamily, shippedFamilies } from '@barrow/families';

const text = readFileSync(join(shippedFamilies, 'wendlock-branch.yaml'), 'utf8');
const messagesOf = (changed: string): string[] => {
  try {
    parseFamily(changed, 'f.yaml');
  } catch (error) {
    if (error instanceof FamilyFileError) return error.faults.map((f) => f.message);
    throw error;
  }
  return [];
};
const changed = (from: RegExp, to: string): string => {
  expect(text).toMatch(from);
  return text.replace(from, to);
};

describe('a way that cannot work', () => {
  it('is none that ships', () => expect(loadFamilies().size).toBeGreaterThan(10));
  it.each([
    [
      'reboots before it activates',
      changed(/(\{ activate: [^}]*\}), (.*?)(\{ reboot: [^}]*\})/, '$3, $2$1'),
      /comes after reboot: it has to come before/,
    ],
    ['restarts and never waits for the return', changed(/, \{ return: [^}]*\}/, ''), /no step return/],
    ['activates and restarts nothing', changed(/, \{ reboot: [^}]*\}/, ''), /nothing restarts the device/],
    [
      'has its point of no return where nothing is changed',
      changed(/pointOfNoReturn: activate/, 'pointOfNoReturn: checks'),
      /checks changes nothing/,
    ],
    ['has a restart that does nothing', changed(/( {2}reboot:\n {4}do:)\n(?: {6}.*\n)+/, '$1 []\n'), /it does nothing/],
    ['has images for a model that is none', changed(/models: \[WR-110\]/, 'models: [WR-999]'), /WR-999 is none of its models/],
  ])('is refused where it %s', (_, file, message) => {
    expect(messagesOf(file).join('\n')).toMatch(message);
  });
});
