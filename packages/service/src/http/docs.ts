import { html } from 'hono/html';

interface OpenApi {
  info: { title: string; version: string };
  paths: Record<
    string,
    Record<
      string,
      { summary?: string; description?: string; parameters?: { name: string; in: string; required?: boolean }[]; requestBody?: unknown }
    >
  >;
}

/** The operations of the interface as a page for people; the machine's version is /api/openapi.json. */
export function docsPage(document: OpenApi): string {
  const rows = Object.entries(document.paths).flatMap(([path, methods]) =>
    Object.entries(methods).map(([method, op]) => ({ path, method, op })),
  );
  return String(
    html`<!doctype html>
      <html lang="en">
        <head>
          <meta charset="utf-8" />
          <title>${document.info.title}: the HTTP interface</title>
          <style>
            body {
              font:
                15px/1.5 system-ui,
                sans-serif;
              max-width: 64rem;
              margin: 2rem auto;
              padding: 0 1rem;
              color-scheme: light dark;
            }
            table {
              border-collapse: collapse;
              width: 100%;
            }
            td,
            th {
              text-align: left;
              padding: 0.35rem 0.8rem 0.35rem 0;
              border-bottom: 1px solid #8884;
              vertical-align: top;
            }
            code {
              font-family: ui-monospace, monospace;
              font-size: 0.92em;
            }
            .m {
              text-transform: uppercase;
              font-weight: 600;
            }
          </style>
        </head>
        <body>
          <h1>The HTTP interface of Barrow ${document.info.version}</h1>
          <p>
            JSON over HTTP. Every request carries <code>Authorization: Bearer TOKEN</code>. Errors are RFC 9457 problem documents with a
            stable <code>code</code> and a <code>next</code> that says what to do. Shapes:
            <a href="/api/openapi.json">/api/openapi.json</a>.
          </p>
          <table>
            <tr>
              <th>Method</th>
              <th>Path</th>
              <th>What it does</th>
              <th>Given</th>
            </tr>
            ${rows.map(
              ({ path, method, op }) =>
                html`<tr>
                  <td class="m">${method}</td>
                  <td><code>${path}</code></td>
                  <td>${op.summary ?? ''}<br /><small>${op.description ?? ''}</small></td>
                  <td>
                    ${(op.parameters ?? []).map((p) => `${p.name}${p.required ? '' : '?'}`).join(', ')}${op.requestBody ? ' body' : ''}
                  </td>
                </tr>`,
            )}
          </table>
        </body>
      </html>`,
  );
}
