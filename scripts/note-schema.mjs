// Writes docs/image-note.schema.json from the one schema of the image note: node scripts/note-schema.mjs (after a build).
import { writeFileSync } from 'node:fs';
import { imageNoteJsonSchema } from '@barrow/core';

writeFileSync(new URL('../docs/image-note.schema.json', import.meta.url), `${JSON.stringify(imageNoteJsonSchema(), null, 2)}\n`);
