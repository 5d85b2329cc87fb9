// Writes docs/family.schema.json, and the reference in docs/families.md, from the one schema of family files: node scripts/families-page.mjs (after a build).
import { readFileSync, writeFileSync } from 'node:fs';
import { familyJsonSchema, referenceOf } from '@barrow/families';

const page = new URL('../docs/families.md', import.meta.url);
const heading = '## Everything that a family file may say\n';
const text = readFileSync(page, 'utf8');
writeFileSync(page, `${text.slice(0, text.indexOf(heading))}${heading}\n${referenceOf(familyJsonSchema())}`);
writeFileSync(new URL('../docs/family.schema.json', import.meta.url), `${JSON.stringify(familyJsonSchema(), null, 2)}\n`);
