import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { parse } from 'yaml';
import { z } from 'zod';
import { familyJsonSchema, shippedFamilies } from '@barrow/families';

describe('the JSON Schema of family files', () => {
  // Read back from what is handed out, and not from what it was made from.
  const reader = z.fromJSONSchema(JSON.parse(JSON.stringify(familyJsonSchema())) as never);
  const files = readdirSync(shippedFamilies).filter((f) => f.endsWith('.yaml'));
  const read = (file: string): unknown => parse(readFileSync(join(shippedFamilies, file), 'utf8'));

  it.each(files)('takes %s', (file) => {
    const read1 = reader.safeParse(read(file));
    expect(read1.success ? [] : read1.error.issues.map((i) => `${i.path.join('.')}: ${i.message}`)).toEqual([]);
  });

  it.each([
    ['family: tarnbrook-access', 'famly: tarnbrook-access'],
    ['kind: switch', 'kind: swich'],
    ['- say: tell unit', '- sya: tell unit'],
    ['{ preflight: 12 s }', '{ prefligth: 12 s }'],
    ['limit: 2 min', 'limit: two minutes'],
    ['cause: device-busy', 'cause: device-buzy'],
  ])('refuses %s written as %s', (good, slip) => {
    const text = readFileSync(join(shippedFamilies, 'tarnbrook-access.yaml'), 'utf8');
    expect(text).toContain(good);
    expect(reader.safeParse(parse(text.replace(good, slip))).success).toBe(false);
  });
});
