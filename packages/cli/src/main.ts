import { runCli } from './run.js';

// Whoever reads has read enough, as `head` does.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit(process.exitCode ?? 0);
  throw error;
});

void runCli(process.argv.slice(2), {
  out: (text) => void process.stdout.write(text),
  err: (text) => void process.stderr.write(text),
  terminal: process.stdout.isTTY === true,
  width: process.stdout.columns ?? 100,
}).then((code) => {
  process.exitCode = code;
  // Sockets that a command left open must not keep it from ending.
  if (process.stdout.writableLength === 0) process.exit(code);
  else process.stdout.once('drain', () => process.exit(code));
});
