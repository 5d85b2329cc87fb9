import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { fileURLToPath } from 'node:url';
import { describe, expect, it } from 'vitest';

const program = fileURLToPath(new URL('../packages/bench/dist/main.js', import.meta.url));

/** Whether they are quick is for `npm run bench` to say; that each of them ends is for a test. */
describe('the measures', () => {
  it('all end, with small numbers', async () => {
    const child = spawn(process.execPath, [program, '--smoke'], { stdio: ['ignore', 'pipe', 'ignore'] });
    let out = '';
    child.stdout.on('data', (chunk: Buffer) => (out += String(chunk)));
    const [code] = (await once(child, 'close')) as [number];
    expect(code, out).toBe(0);
    for (const what of [
      'list of',
      'restart with',
      'adding an image',
      'paths of',
      'decide,',
      'rehearsal,',
      'rehearsed night',
      'single points',
      'sweep of',
      'TFTP, one transfer',
      'HTTP store',
    ])
      expect(out).toContain(`· ${what}`);
    expect(out).toMatch(/^\d\d figures, with small numbers/m);
  });

  it('are refused by a name that none has', async () => {
    const child = spawn(process.execPath, [program, 'nonsense'], { stdio: ['ignore', 'ignore', 'pipe'] });
    const [code] = (await once(child, 'close')) as [number];
    expect(code).toBe(2);
  });
});
