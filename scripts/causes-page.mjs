// Writes docs/causes.md from the one catalogue of causes: node scripts/causes-page.mjs (after a build).
import { writeFileSync } from 'node:fs';
import { causes } from '@barrow/core';

const row = (c) =>
  `| \`${c.code}\` | ${c.what} | ${c.next} | ${c.counts === 'failed' ? 'failed' : `not begun, at preflight${c.passes ? '; asked again' : ''}`} |`;
writeFileSync(
  new URL('../docs/causes.md', import.meta.url),
  `# Causes

Every failure has one of these names. The command line, the console and the reports say the same words. Made from
\`packages/core/src/causes/catalogue.ts\` by \`node scripts/causes-page.mjs\`.

| code | what happened | what to look at next | counts as |
|---|---|---|---|
${causes.map(row).join('\n')}
`,
);
