// The reference pages that are made, not written: docs/commands.md from the help, docs/http-api.md from the running service.
// `node scripts/reference-pages.mjs` writes both (after a build); a test compares them.
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { runCli } from '@barrow/cli';

const program = fileURLToPath(new URL('../packages/cli/bin/barrow.js', import.meta.url));

/** What a command prints as its help. */
async function helpOf(words) {
  let out = '';
  await runCli([...words, '--help'], { out: (text) => void (out += text), err: () => undefined, terminal: false, width: 100 });
  return out.trim();
}

/** The names of the commands below, as the help lists them. */
const below = (help) =>
  [...help.matchAll(/^ {2}([a-z][\w-]*)\b(?: [<[].*)?(?: {2,}.*)?$/gm)].map((m) => m[1]).filter((name) => name !== 'help');

/** docs/commands.md */
export async function commandsPage() {
  const parts = [];
  const visit = async (words) => {
    const help = await helpOf(words);
    if (words.length > 0) parts.push(`## barrow ${words.join(' ')}\n\n\`\`\`\n${help}\n\`\`\``);
    if (words.length < 2 && /^Commands:|^[A-Z][^\n]*:$/m.test(help) && / \[command\]| \[options\] \[command\]/.test(help.split('\n')[0]))
      for (const name of below(help)) await visit([...words, name]);
  };
  await visit([]);
  return `# Commands

Made from the help of the command line by \`node scripts/reference-pages.mjs\`. Every command takes \`--json\` (one answer on standard
output, nothing else), \`--url\`, \`--token\` and \`--data\`, or the variables \`BARROW_URL\`, \`BARROW_TOKEN\` and \`BARROW_DATA\`.

| exit code | meaning |
|---|---|
| 0 | done |
| 1 | the work failed: not every device was verified, or the service could not start |
| 2 | wrong use: an unknown device, a malformed range, a missing file |
| 3 | the service cannot be reached |
| 4 | refused: not allowed, or a rule forbids it |

${parts.join('\n\n')}
`;
}

/** docs/http-api.md, from the description that a service gives of itself */
export function apiPage(openapi) {
  const rows = Object.entries(openapi.paths)
    .flatMap(([path, methods]) =>
      Object.entries(methods).map(([method, { summary, description }]) => ({
        path,
        method: method.toUpperCase(),
        summary,
        role: /Needs the role (\w+)/.exec(description ?? '')?.[1] ?? '',
      })),
    )
    .sort((a, b) => a.path.localeCompare(b.path) || a.method.localeCompare(b.method));
  return `# HTTP API

JSON under \`/api/v1\`. Every request needs \`Authorization: Bearer TOKEN\`. The running service describes each operation at
\`/api/docs\`, and for machines (OpenAPI 3.1) at \`/api/openapi.json\`. Errors are problem documents (RFC 9457) with a stable
\`code\`. Live changes are server-sent events at \`/api/v1/events\`, resumable by \`Last-Event-ID\`. This list is made by
\`node scripts/reference-pages.mjs\`.

| operation | what it does | role |
|---|---|---|
${rows.map((r) => `| \`${r.method} ${r.path}\` | ${(r.summary ?? '').replaceAll('|', '\\|')} | ${r.role} |`).join('\n')}
`;
}

async function describedByService() {
  const data = mkdtempSync(join(tmpdir(), 'barrow-reference-'));
  const anywhere = ['--listen', '--tftp-listen', '--http-store-listen'].flatMap((what) => [what, '127.0.0.1:0']);
  const service = spawn(process.execPath, [program, 'serve', '--json', '--data', data, '--log', 'silent', ...anywhere], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const line = await new Promise((resolve) => createInterface({ input: service.stdout }).once('line', resolve));
  const answer = await fetch(`${JSON.parse(line).url}/api/openapi.json`, {
    headers: { authorization: `Bearer ${readFileSync(join(data, 'token'), 'utf8').trim()}` },
  });
  const openapi = await answer.json();
  service.kill('SIGTERM');
  await new Promise((resolve) => service.once('exit', resolve));
  rmSync(data, { recursive: true, force: true });
  return openapi;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  writeFileSync(new URL('../docs/commands.md', import.meta.url), await commandsPage());
  writeFileSync(new URL('../docs/http-api.md', import.meta.url), apiPage(await describedByService()));
}
