// Writes docs/causes.md from the one catalogue of causes: node scripts/causes-page.mjs (after a build).
import { writeFileSync } from 'node:fs';
import { causes, transferFaults } from '@barrow/core';
import { aroundFaults, upgradeFaults } from '@barrow/standins';

const row = (c) =>
  `| \`${c.code}\` | ${c.what} | ${c.next} | ${c.counts === 'failed' ? 'failed' : `not begun, at preflight${c.passes ? '; asked again' : ''}`} |`;
const inRollouts = [...upgradeFaults, ...aroundFaults];
const ofTransfers = transferFaults.reduce((sum, f) => sum + f.by.length, 0);
const tried = inRollouts.length + ofTransfers;
writeFileSync(
  new URL('../docs/causes.md', import.meta.url),
  `# Causes

Every failure has one of these names. The command line, the console and the reports say the same words. Made from
\`packages/core/src/causes/catalogue.ts\` by \`node scripts/causes-page.mjs\`.

| code | what happened | what to look at next | counts as |
|---|---|---|---|
${causes.map(row).join('\n')}

## Faults that were injected

Each of these ${tried} is switched on at a simulated device by a test, and the first thing that is told has to be its cause. Those of the way
are in [when nothing moves](when-nothing-moves.md): ${transferFaults.length} of them, ${ofTransfers} with the protocols by which they are tried.

| what happens | fault | told as |
|---|---|---|
${inRollouts.map((f) => `| ${f.what} | \`${f.fault}\` of \`${f.device}\` | \`${f.cause}\` |`).join('\n')}
`,
);
