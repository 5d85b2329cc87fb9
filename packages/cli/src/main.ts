import { runCli } from './run.js';

const code = await runCli(process.argv.slice(2), {
  out: (text) => void process.stdout.write(text),
  err: (text) => void process.stderr.write(text),
  terminal: process.stdout.isTTY === true,
  width: process.stdout.columns ?? 100,
});
process.exitCode = code;
// Sockets that a command left open must not keep it from ending.
if (process.stdout.writableLength === 0) process.exit(code);
else process.stdout.once('drain', () => process.exit(code));
