import { cause, duration, rungText, passageOf, siteSteps, stepMeaning, type AtSite, type Instant } from '@barrow/core';
import { html, raw } from 'hono/html';
import type { DeviceRow } from '../data/entities.js';
import type { ActiveRollout } from '../runner/active.js';

/** What is told beside the journal. */
export interface SiteFacts extends AtSite {
  readonly device: DeviceRow;
  readonly contact: string | null;
  readonly step: string;
  readonly stepAt: Instant | null;
}

const css = `
  :root { color-scheme: light dark; font: 17px/1.5 system-ui, sans-serif; }
  body { max-width: 38rem; margin: 0 auto; padding: 1rem 1.1rem 3rem; }
  h1 { font-size: 1.5rem; margin: 0 0 .25rem; overflow-wrap: anywhere; } h2 { font-size: 1.1rem; margin: 1.6rem 0 .4rem; }
  p { margin: .3rem 0; } .quiet { opacity: .75; } code { font-family: ui-monospace, monospace; overflow-wrap: anywhere; }
  .now { border-left: 5px solid #a3271f; padding: .5rem .8rem; margin: .8rem 0; background: color-mix(in srgb, #a3271f 9%, transparent); }
  .now.fine { border-color: #1c6b3a; background: color-mix(in srgb, #1c6b3a 9%, transparent); }
  ol { padding: 0; margin: 0; list-style: none; counter-reset: n; }
  ol li { counter-increment: n; position: relative; padding: .55rem 0 .55rem 2.6rem; border-top: 1px solid color-mix(in srgb, currentColor 22%, transparent); }
  ol li::before { content: counter(n); position: absolute; left: 0; top: .55rem; width: 1.7rem; height: 1.7rem; line-height: 1.7rem; text-align: center; border: 2px solid currentColor; border-radius: 50%; font-weight: 700; font-size: .85rem; }
  ol li.warn { font-weight: 650; } ol li.warn::before { content: '!'; background: #a3271f; border-color: #a3271f; color: #fff; }
  dl { display: grid; grid-template-columns: 7.5rem minmax(0, 1fr); gap: .25rem .8rem; margin: .3rem 0; } dt { opacity: .75; } dd { margin: 0; overflow-wrap: anywhere; }
  @media print { :root { font-size: 11pt; } }
`;

/** The page for who stands before a device that Barrow cannot recover: what must not be done, what to do, what is known, what was tried. */
export function sitePage(active: ActiveRollout, run: string, facts: SiteFacts): string {
  const { plan, state } = active;
  const index = state.indexOf.get(run)!;
  const planned = plan.runs[index]!;
  const now = state.runs[index]!;
  const passage = passageOf(plan, planned);
  const at = (moment: Instant): string =>
    new Date(moment).toLocaleString('en-GB', { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });
  const { device } = facts;
  const fine = now.outcome !== null && now.outcome !== 'failed';
  const steps = fine ? [] : siteSteps(facts);
  const known: [string, string | null][] = [
    ['Serial', device.serial],
    [
      'Hardware',
      [device.maker, device.model, device.hardwareRevision && `revision ${device.hardwareRevision}`].filter(Boolean).join(' ') || null,
    ],
    ['MAC', device.mac],
    ['Address', device.address || null],
    ['Site', device.site],
    ['Hangs on', facts.hangsOn.join('; ') || null],
    ['Powered by', facts.poweredBy.join('; ') || null],
    ['Console', facts.console],
    ['Ran before', planned.from],
    ['Was to run', planned.target],
    ['Settings', facts.backup === null ? 'not saved in this rollout' : `kept as backup ${facts.backup}`],
    ['Last step', facts.stepAt === null ? null : `${stepMeaning(facts.step)}, begun ${at(facts.stepAt)}`],
    ['Who is there', facts.contact],
  ];
  const page = html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <title>${planned.name}: what to do at the site</title>
        <style>
          ${raw(css)}
        </style>
      </head>
      <body>
        <h1>${planned.name}</h1>
        <p class="quiet">${device.site}. Written ${at(facts.now)}; rollout “${plan.name}” (<code>${plan.id}</code>).</p>
        <div class="now ${fine ? 'fine' : ''}">
          ${
            fine
              ? html`<b>Nothing is to be done here:</b> it has ended ${now.outcome}${now.detail ? `: ${now.detail}` : ''}.`
              : now.cause
                ? html`<b>${cause(now.cause).what}</b>
                    <p>${now.detail}</p>`
                : html`<b>It is under way</b>: at “${stepMeaning(facts.step)}”. What follows is for the case that it stays away.`
          }
        </div>
        ${
          steps.length > 0
            ? html`<h2>What to do, in this order</h2>
                <ol>
                  ${steps.map((s) => html`<li class="${s.warn ? 'warn' : ''}">${s.text}</li>`)}
                </ol>`
            : ''
        }
        ${
          now.tried.length > 0
            ? html`<h2>What Barrow has tried</h2>
                ${now.tried.map(
                  (t) =>
                    html`<p>
                      It was ${rungText(passage.rungs[t.rung]!.means)}, and failed at “${stepMeaning(t.step)}”: ${cause(t.cause).what}
                      <span class="quiet">${t.detail}</span>
                    </p>`,
                )}`
            : !fine && now.cause
              ? html`<h2>What Barrow has tried</h2>
                  <p>
                    Nothing after its
                    failure${passage.rungs.length > 0 ? ': nobody has said so, or the plan does not say --way-back' : ': its family knows no way'}.
                  </p>`
              : ''
        }
        <h2>What is known of it</h2>
        <dl>
          ${known.flatMap(([word, value]) =>
            value === null
              ? []
              : [
                  html`<dt>${word}</dt>
                    <dd>${value}</dd>`,
                ],
          )}
        </dl>
        <p class="quiet">A device of this kind takes up to ${duration(facts.startsWithin)} to start.</p>
      </body>
    </html>`;
  return String(page);
}
