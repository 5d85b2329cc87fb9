import { spawn } from 'node:child_process';

/** Runs a program that others wrote, to its end. */
export function command(
  name: string,
  args: readonly string[],
  cwd: string,
  input = '',
): Promise<{ code: number | null; out: string; err: string }> {
  return new Promise((resolve) => {
    const child = spawn(name, args, { cwd });
    let out = '';
    let err = '';
    child.stdout.on('data', (d: Buffer) => (out += d.toString('latin1')));
    child.stderr.on('data', (d: Buffer) => (err += d.toString()));
    child.stdin.end(input);
    child.on('close', (code) => resolve({ code, out, err }));
  });
}
