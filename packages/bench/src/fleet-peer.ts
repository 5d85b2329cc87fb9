import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Fleet, writeScenarioImages } from '@barrow/standins';

/** A fleet of many like switches, and the images that they take. */
const [, , network = '161', more = '500'] = process.argv;
const fleet = new Fleet({ timeScale: 100, network: Number(network), only: [], more: Number(more) });
await fleet.start();
const images = writeScenarioImages(mkdtempSync(join(tmpdir(), 'barrow-bench-images-'))).filter(
  (i) => /\/tb24-4\.3\.0\.simg$/.test(i) && !/\/(damaged|other)\//.test(i),
);
process.send!({ images });
process.on('disconnect', () => process.exit(0));
