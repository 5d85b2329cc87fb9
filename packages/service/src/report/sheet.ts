import {
  duration,
  legSteps,
  passageOf,
  rehearse,
  rungText,
  stepMeaning,
  type Instant,
  type Passage,
  type Plan,
  type Played,
} from '@barrow/core';
import { linesByHand, type Family } from '@barrow/families';
import { html, raw } from 'hono/html';
import type { ActiveRollout } from '../runner/active.js';
import { hazardsView } from '../runner/view.js';
import { sheetCss } from './sheet-css.js';

/** What the sheet tells beside the plan. */
export interface SheetFacts {
  /** By name: who is there. */
  readonly contacts: ReadonlyMap<string, string | null>;
  /** By device: where its serial console is plugged in, in words. */
  readonly consoles: ReadonlyMap<string, string>;
  /** Names of files, by the digest of their image. */
  readonly files: ReadonlyMap<string, string>;
  /** Where the stores listen. */
  readonly stores: readonly string[];
  readonly madeAt: Instant;
}

const two = (n: number): string => String(n).padStart(2, '0');
const clock = (at: Instant): string => `${two(new Date(at).getHours())}:${two(new Date(at).getMinutes())}`;
const day = (at: Instant): string =>
  new Date(at).toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric', month: 'short', year: 'numeric' });
const zone = (): string => Intl.DateTimeFormat('en-GB').resolvedOptions().timeZone;

/** What was rehearsed last of each: what was begun does not change by what comes of it. */
const played = new WeakMap<Plan, { readonly from: Instant; readonly told: Played }>();
function playedOf({ plan }: ActiveRollout, from: Instant): Played {
  const known = played.get(plan);
  if (known?.from === from) return known.told;
  const told = rehearse(plan, from);
  played.set(plan, { from, told });
  return told;
}

/**
 * The night on paper: order, times, who is there, the way back, and what a person types who finishes by hand what Barrow cannot. One
 * printable page that needs nothing else; everything that came from a device is escaped.
 */
export function sheetPage(active: ActiveRollout, facts: SheetFacts): string {
  const { plan, state } = active;
  const named = active.begins()?.at ?? null;
  const told = playedOf(active, state.startedAt ?? named ?? facts.madeAt);
  const at = new Map(told.runs.map((r) => [r.run, r]));
  const longer = told.endsAt - told.beginsAt > 20 * 3_600_000;
  const when = (moment: Instant): string => (longer ? `${day(moment).slice(0, 6)} ${clock(moment)}` : clock(moment));
  const order = plan.runs
    .map((run, index) => ({ run, index, begins: at.get(run.id)?.beginsAt ?? Infinity }))
    .sort((a, b) => a.begins - b.begins || a.index - b.index);
  const nameOf = new Map(plan.runs.map((r) => [r.device, r.name]));
  const ended = state.runs.filter((r) => r.phase === 'ended').length;
  const sites = [...new Set(plan.runs.map((r) => r.site))].sort();
  const row = ({ run, index }: (typeof order)[number], number: number) => {
    const now = state.runs[index]!;
    const one = at.get(run.id);
    const passage = passageOf(plan, run);
    const back = plan.wayBack || passage.rungs.length > 0 ? [...new Set(passage.rungs.map((r) => r.means))] : [];
    const legs = passage.legs.map((l) => facts.files.get(l.image) ?? `${l.image.slice(0, 12)}…`);
    return html`<tr class="${now.outcome ?? ''}">
      <td class="box">${now.outcome === 'verified' ? '☑' : '☐'}</td>
      <td class="num">${number}</td>
      <td class="num">${one ? when(one.beginsAt) : '–'}</td>
      <td>
        <b>${run.name}</b><br /><span class="mono"
          >${run.via === undefined ? run.address : `through ${nameOf.get(run.via) ?? run.via}`}</span
        ><br /><span class="quiet">${run.site}, serial ${run.serial}</span>
        ${facts.consoles.has(run.device) ? html`<br /><span class="quiet">its console: ${facts.consoles.get(run.device)!}</span>` : ''}
      </td>
      <td>
        <span class="mono">${run.from} → ${run.target}</span><br /><span class="mono quiet">${legs.join(', then ')}</span>
        ${run.power ? html`<br /><span class="quiet">its power: ${run.power.outlet} of ${run.power.name}</span>` : ''}
      </td>
      <td class="num">
        ${one && one.downFrom !== null ? `${when(one.downFrom)}–${clock(one.downUntil!)}` : '–'}<br /><span class="quiet"
          >${one && one.downMs > 0 ? duration(one.downMs) : ''}</span
        >
      </td>
      <td>${back.length === 0 ? html`<b>one way</b>` : back.map((means) => rungText(means)).join(', then ')}</td>
      <td>${now.outcome ?? ''}${now.cause ? html`<br /><span class="quiet">${now.cause}</span>` : ''}</td>
    </tr>`;
  };
  const page = html`<!doctype html>
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <title>Night sheet: ${plan.name}</title>
        <style>
          ${raw(sheetCss)}
        </style>
      </head>
      <body>
        <h1>${plan.name}</h1>
        <p class="quiet">
          Night sheet of rollout <code>${plan.id}</code>, planned by ${plan.createdBy}. Written ${day(facts.madeAt)} ${clock(facts.madeAt)}
          (${zone()}): it is ${state.phase}${state.phase === 'planned' ? '' : `, ${ended} of ${plan.runs.length} devices have ended`}.
        </p>
        ${state.heldBecause ? html`<p class="warn">Held: ${state.heldBecause}</p>` : ''}
        <p>
          <b>${day(told.beginsAt)} ${clock(told.beginsAt)} to ${longer ? `${day(told.endsAt)} ` : ''}${clock(told.endsAt)}</b>, as rehearsed
          ${state.startedAt !== null ? 'from its start' : named === null ? 'if it is started now' : 'from the moment at which it begins'}:
          ${plan.runs.length} ${plan.runs.length === 1 ? 'device' : 'devices'}, at most ${told.mostAtOnce} under way and ${told.mostDown}
          down at once. ${told.stuck === null ? '' : html`<span class="warn">It does not come to its end: ${told.stuck}</span>`}
        </p>
        <p class="quiet">Stores: ${facts.stores.join(', ')}.</p>
        <h2>Who is there</h2>
        <table>
          ${sites.map(
            (site) =>
              html`<tr>
                <td><b>${site}</b></td>
                <td>${facts.contacts.get(site) ?? html`<span class="warn">nobody said</span>`}</td>
                <td class="quiet">${plan.runs.filter((r) => r.site === site).length} of its devices</td>
              </tr>`,
          )}
        </table>
        ${plan.waves.map((wave, index) => {
          const mine = order.filter(({ run }) => run.wave === index);
          const before = order.filter(({ run }) => run.wave < index).length;
          const over = told.waves.find((w) => w.wave === index);
          const last = index === plan.waves.length - 1;
          return html`<section>
            <h2>
              Wave ${index + 1} · ${wave.name}${over ? html` <span class="quiet">${when(over.opensAt)} to ${when(over.endsAt)}</span>` : ''}
            </h2>
            <table class="runs">
              <thead>
                <tr>
                  <th></th>
                  <th class="num">No.</th>
                  <th class="num">From</th>
                  <th>Device</th>
                  <th>What it takes</th>
                  <th class="num">Dark</th>
                  <th>If it fails it is</th>
                  <th>Came to</th>
                </tr>
              </thead>
              ${mine.map((one, i) => row(one, before + i + 1))}
            </table>
            ${gateWords(plan, index, last)}
          </section>`;
        })}
        ${hazards(plan)}
        <h2>By hand, if Barrow is not there</h2>
        <p class="quiet">What each device is told, step by step. ‹Words in such marks› are what the device itself tells before.</p>
        ${byHand(active, facts)}
      </body>
    </html>`;
  return String(page);
}

function hazards(plan: Plan) {
  const kinds = hazardsView(plan);
  if (kinds.length === 0) return '';
  return html`<h2>What could hurt</h2>
    <ul>
      ${kinds.map(
        ({ what, groups }) =>
          html`<li>
            <b>${what}</b>
            ${groups.map(
              (g) => html`<br />${g.devices.join(', ')}: ${g.words}${g.forMs === null ? '' : `, for about ${duration(g.forMs)}`}`,
            )}
          </li>`,
      )}
    </ul>`;
}

function gateWords(plan: Plan, index: number, last: boolean) {
  const { soakMs, failureLimit, failureShare, absentLimit, approval } = plan.waves[index]!.gate;
  const words = [
    ...(soakMs > 0 ? [`wait ${duration(soakMs)}`] : []),
    `stop at ${failureLimit} failed${failureShare === undefined ? '' : ` or ${failureShare} %`}`,
    ...(absentLimit === undefined ? [] : [`stop at more than ${absentLimit} absent`]),
  ];
  return html`<p class="gate">
    <span class="box">☐</span> After it:
    ${words.join(', ')}${approval && !last ? html`. <b>A person has to say so:</b> ____________________` : '.'}
  </p>`;
}

/** What those that pass alike are told, once for all of them. */
function byHand(active: ActiveRollout, facts: SheetFacts) {
  const { plan } = active;
  const passing = new Map<string, { family: string; passage: Passage; names: string[] }>();
  for (const run of plan.runs) {
    const key = `${run.family} ${run.passage}`;
    const known = passing.get(key);
    if (known) known.names.push(run.name);
    else passing.set(key, { family: run.family, passage: passageOf(plan, run), names: [run.name] });
  }
  return [...passing.values()].map(({ family, passage, names }) => {
    const file = active.familyOf(family);
    return html`<section class="hand">
      <h3>${names.join(', ')}</h3>
      <table>
        ${passage.steps.slice(0, legSteps(passage)).map((step) => {
          const leg = passage.legs[step.leg];
          const image = leg ? (facts.files.get(leg.image) ?? '‹imageFile›') : '‹imageFile›';
          const lines = step.words === undefined ? linesOf(file, step.step, image) : [step.words];
          return html`<tr class="${step.pastReturn ? 'past' : ''}">
            <td class="box">☐</td>
            <td><b>${step.step}</b>${passage.legs.length > 1 && leg ? html` <span class="quiet">(${leg.to})</span>` : ''}</td>
            <td>
              <span class="quiet">${stepMeaning(step.step)}</span>${lines.map((line) => html`<br /><span class="mono">${line}</span>`)}
            </td>
          </tr>`;
        })}
      </table>
    </section>`;
  });
}

/** The lines of a step: those of the procedure of its name, or of the one that does what Barrow calls so. */
function linesOf(family: Family | null, step: string, imageFile: string): string[] {
  const name = step === 'backup' ? 'configuration' : step === 'preflight' || step === 'checks' ? 'record' : step;
  const procedure = (family?.procedures as Readonly<Record<string, Parameters<typeof linesByHand>[0] | undefined>> | undefined)?.[name];
  return procedure ? linesByHand(procedure, { imageFile }) : [];
}
