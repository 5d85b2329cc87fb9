import { cameText, duration, type Report } from '@barrow/core';
import { html, raw } from 'hono/html';

const css = `
  :root { color-scheme: light; font: 10.5pt/1.45 system-ui, sans-serif; color: #16202b; }
  body { max-width: 62rem; margin: 2rem auto; padding: 0 1.5rem; }
  h1 { font-size: 1.5rem; margin: 0 0 .2rem; } h2 { font-size: 1.05rem; margin: 1.8rem 0 .5rem; }
  p { margin: .2rem 0; } .quiet { color: #55636f; }
  table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 600; color: #55636f; }
  th, td { padding: .28rem .6rem .28rem 0; border-bottom: 1px solid #dfe4e8; vertical-align: baseline; }
  code, .mono { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; font-size: .92em; }
  .sum { display: flex; gap: 2rem; margin: 1rem 0; padding: .8rem 0; border-block: 2px solid #16202b; }
  .sum b { display: block; font-size: 1.5rem; line-height: 1.1; }
  section.run { break-inside: avoid; border-top: 1px solid #16202b; margin-top: 1.4rem; padding-top: .5rem; }
  section.run h3 { margin: 0; font-size: 1rem; display: flex; justify-content: space-between; }
  .verified::before { content: '✓ '; } .failed::before { content: '✕ '; } .failed { color: #a01f1f; } .recovered::before { content: '↺ '; } .recovered { color: #7a4a00; } .not-begun::before { content: '○ '; } .not-begun { color: #7a4a00; }
  .digest { overflow-wrap: anywhere; } .once { white-space: nowrap; }
  @media print { body { margin: 0; max-width: none; } a { color: inherit; text-decoration: none; } }
`;

const time = (moment: string | null): string => (moment === null ? '–' : moment.replace('T', ' ').slice(0, 19));

/** Commands stand between backticks in words for a terminal. */
const words = (text: string) => text.split('`').map((piece, i) => (i % 2 === 0 ? piece : html`<code>${piece}</code>`));

/** Who is not at its target, why, and what is to be looked at: what the morning begins with. */
function leftToDo({ runs }: Report) {
  const left = runs.filter((r) => r.outcome !== 'verified' && r.outcome !== 'skipped' && r.cause);
  if (left.length === 0) return '';
  return html`<h2>What is left to do</h2>
    <table>
      ${left.map(
        (r) =>
          html`<tr>
            <td class="once">${r.name}</td>
            <td class="once ${r.outcome ?? ''}">${r.outcome ?? 'not ended'}</td>
            <td>${r.cause!.what} <span class="quiet">${words(r.cause!.next)}</span></td>
          </tr>`,
      )}
    </table>`;
}

/** Whom it did not go well with by itself, and what was done: also where all is well again. */
function whatWasTried({ runs }: Report) {
  const climbed = runs.filter((r) => r.rungs.length > 0);
  const again = runs.filter((r) => (r.earlier?.length ?? 0) > 0);
  const attempts =
    again.length === 0
      ? ''
      : html`<h2>Earlier attempts</h2>
          ${again.flatMap((r) =>
            r.earlier!.map(
              (one, at) =>
                html`<p>
                  <b>${r.name}</b>, attempt ${at + 1}: ${one.cause.what} <span class="quiet">${one.detail}</span>
                  ${one.changed.length === 0 ? 'No step that changes the device was begun.' : `Begun on the device: ${one.changed.join(', ')}.`}
                </p>`,
            ),
          )}`;
  if (climbed.length === 0) return attempts;
  return html`${attempts}
    <h2>What failed, and what was tried</h2>
    <table>
      <tr>
        <th>Device</th>
        <th>What failed</th>
        <th>It was</th>
        <th>At</th>
        <th>What came of it</th>
      </tr>
      ${climbed.flatMap((r) =>
        r.rungs.map(
          (rung, i) =>
            html`<tr>
              <td class="once">${i === 0 ? r.name : ''}</td>
              <td>${rung.for.cause.what} <span class="quiet">${rung.for.detail}</span></td>
              <td>${rung.text}${rung.by === null ? '' : `, on the word of ${rung.by}`}</td>
              <td>${time(rung.begunAt).slice(11)}</td>
              <td class="${rung.failed === null ? '' : 'failed'}">
                ${cameText(rung)}${rung.failed === null ? '' : html` <span class="quiet">${rung.failed.detail}</span>`}
              </td>
            </tr>`,
        ),
      )}
    </table>`;
}

/** Predicted and actual time of the rollout and of each wave, and how far they differ in percent of the prediction. */
function besideTable({ beside }: Report) {
  if (!beside) return '';
  const failures = beside.withFailuresMs !== undefined;
  const row = (name: string, predicted: number, withFailures: number | undefined, took: number | null) => {
    const fair = withFailures ?? predicted;
    const off = took === null || fair === 0 ? null : Math.round((took / fair - 1) * 100);
    return html`<tr>
      <td>${name}</td>
      <td>${duration(predicted)}</td>
      ${failures ? html`<td>${withFailures === undefined ? '–' : duration(withFailures)}</td>` : ''}
      <td>${took === null ? '–' : duration(took)}</td>
      <td>${off === null ? '–' : `${off > 0 ? '+' : off < 0 ? '−' : ''}${Math.abs(off)} %`}</td>
    </tr>`;
  };
  return html`<h2>Predicted and actual time</h2>
    <table>
      <tr>
        <th></th>
        <th>Predicted</th>
        ${failures ? html`<th>Predicted with the failures that happened</th>` : ''}
        <th>Actual</th>
        <th>Difference</th>
      </tr>
      ${beside.waves.map((w) => row(`Wave ${w.wave}`, w.rehearsedMs, w.withFailuresMs, w.tookMs))}
      ${row('Whole rollout', beside.rehearsedMs, beside.withFailuresMs, beside.tookMs)}
    </table>`;
}

/** The report as one printable page that needs nothing else. Everything that came from a device is escaped. */
export function reportPage(report: Report): string {
  const { rollout } = report;
  const count = (key: keyof typeof rollout.totals): number => rollout.totals[key] ?? 0;
  const page = html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <title>Report: ${rollout.name}</title>
        <style>
          ${raw(css)}
        </style>
      </head>
      <body>
        <h1>${rollout.name}</h1>
        <p class="quiet">
          Rollout <code>${rollout.id}</code>, ${rollout.phase}. Started by ${rollout.startedBy ?? 'nobody yet'} at
          ${time(rollout.startedAt)}, ended ${time(rollout.endedAt)} (UTC). Planned by ${rollout.createdBy}. Report made
          ${time(report.madeAt)}${report.madeBy === undefined ? '' : ` by ${report.madeBy}`}.
          ${
            report.proof === undefined
              ? ''
              : html`The JSON of this report is signed: <code>barrow report ${rollout.id} --format json</code>, key
                  <code>${report.proof.publicKey}</code>.`
          }
        </p>
        ${rollout.heldBecause ? html`<p class="failed">Held: ${rollout.heldBecause}</p>` : ''}
        <div class="sum">
          <div><b>${count('verified')} of ${rollout.devices}</b>verified</div>
          <div><b>${count('recovered')}</b>recovered</div>
          <div><b>${count('failed')}</b>failed</div>
          <div><b>${count('not-begun')}</b>not begun</div>
          <div><b>${count('skipped') + count('withdrawn')}</b>skipped or withdrawn</div>
          <div><b>${count('waiting') + count('under-way')}</b>not ended</div>
        </div>
        ${leftToDo(report)} ${whatWasTried(report)} ${besideTable(report)}
        ${
          report.accepted
            ? html`<h2>Accepted risks</h2>
                <table>
                  ${report.accepted.map(
                    (a) =>
                      html`<tr>
                        <td>${a.what}</td>
                        <td class="quiet">${a.devices === 0 ? '' : `${a.devices} devices`}</td>
                        <td>${a.by}${a.reason === undefined ? '' : `: ${a.reason}`}</td>
                      </tr>`,
                  )}
                </table>`
            : ''
        }
        <h2>Images</h2>
        <table>
          <tr>
            <th>File</th>
            <th>Version</th>
            <th>Octets</th>
            <th>SHA-256</th>
          </tr>
          ${report.images.map(
            (i) =>
              html`<tr>
                <td class="mono">${i.file}</td>
                <td class="mono">${i.version}</td>
                <td>${i.bytes.toLocaleString('en')}</td>
                <td class="mono digest">${i.sha256}</td>
              </tr>`,
          )}
        </table>
        <h2>Devices</h2>
        <table>
          <tr>
            <th>Device</th>
            <th>Site</th>
            <th>Outcome</th>
            <th>Before</th>
            <th>After</th>
            <th>Down for</th>
            <th>Ended</th>
          </tr>
          ${report.runs.map(
            (r) =>
              html`<tr>
                <td>${r.name}</td>
                <td>${r.site}</td>
                <td class="${r.outcome ?? ''}">${r.outcome ?? 'not ended'}</td>
                <td class="mono">${r.before}</td>
                <td class="mono">${r.after ?? '–'}</td>
                <td>${r.downMs === null ? '–' : duration(r.downMs)}</td>
                <td>${time(r.endedAt)}</td>
              </tr>`,
          )}
        </table>
        ${
          report.leftOut.length > 0
            ? html`<h2>Left out of the plan</h2>
                <table>
                  ${report.leftOut.map(
                    (l) =>
                      html`<tr>
                        <td>${l.name}</td>
                        <td>${l.reason}</td>
                      </tr>`,
                  )}
                </table>`
            : ''
        }
        ${
          report.soaks
            ? html`<h2>Soak</h2>
                <table>
                  ${report.soaks.map(
                    (s) =>
                      html`<tr>
                        <td>${time(s.at)}</td>
                        <td>
                          wave ${s.wave}, ${s.looks === 0 ? 'no soak samples' : `${s.looks} soak ${s.looks === 1 ? 'sample' : 'samples'}`}
                        </td>
                        <td>
                          ${
                            s.findings.length === 0
                              ? s.looks === 0
                                ? 'Barrow cannot say whether anything got worse.'
                                : 'Nothing got worse.'
                              : s.findings.map((f) => html`<p class="${s.worse?.startsWith(f) ? 'failed' : ''}">${f}</p>`)
                          }
                        </td>
                      </tr>`,
                  )}
                </table>`
            : ''
        }
        <h2>Who did what</h2>
        <table>
          ${report.deeds.map(
            (d) =>
              html`<tr>
                <td>${time(d.at)}</td>
                <td>${d.by}</td>
                <td>${d.what}</td>
              </tr>`,
          )}
        </table>
        <h2>Evidence, device by device</h2>
        ${report.runs.map(
          (r) =>
            html`<section class="run">
              <h3><span>${r.name}</span><span class="${r.outcome ?? ''}">${r.outcome ?? 'not ended'}</span></h3>
              <p class="quiet">
                Serial <code>${r.serial}</code>, address <code>${r.address}</code>, ${r.site}. From <code>${r.before}</code> to
                <code>${r.target}</code>${r.attempts > 1 ? `, ${r.attempts} tries` : ''}.
              </p>
              ${
                r.cause
                  ? html`<p class="failed">${r.cause.what}</p>
                      <p>${r.detail}</p>
                      <p class="quiet">${words(r.cause.next)}</p>`
                  : r.detail
                    ? html`<p>${r.detail}</p>`
                    : ''
              }
              ${
                r.checks.length > 0
                  ? html`<table>
                      <tr>
                        <th>Check</th>
                        <th>Result</th>
                        <th>Before</th>
                        <th>After</th>
                        <th>Evidence</th>
                      </tr>
                      ${r.checks.map(
                        (c) =>
                          html`<tr>
                            <td>${c.name}</td>
                            <td class="${c.result === 'failed' ? 'failed' : 'verified'}">${c.result}</td>
                            <td class="mono">${c.before}</td>
                            <td class="mono">${c.after}</td>
                            <td>${c.evidence.join('; ')}</td>
                          </tr>`,
                      )}
                    </table>`
                  : ''
              }
              ${
                r.steps.length > 0
                  ? html`<p class="quiet">
                      ${r.steps.map((s) => `${s.step} ${time(s.begunAt).slice(11)}${s.result === 'done' ? '' : ` (${s.result})`}`).join(' · ')}
                    </p>`
                  : ''
              }
              <p class="quiet digest">
                Image
                <code>${r.image}</code
                >${r.digestOnDevice ? html`, on the device <code>${r.digestOnDevice}</code>` : ''}${r.backup ? html`; backup <code>${r.backup}</code>` : ''}.
              </p>
            </section>`,
        )}
      </body>
    </html>`;
  return String(page);
}
