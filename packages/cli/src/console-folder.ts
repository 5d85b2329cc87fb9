import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

/** The built console, or null when it was not built; the service then serves the HTTP interface only. */
export function consoleFolder(): string | null {
  const folder = fileURLToPath(new URL('../../console/dist', import.meta.url));
  return existsSync(join(folder, 'index.html')) ? folder : null;
}
