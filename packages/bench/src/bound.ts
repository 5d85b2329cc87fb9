import { leastOf, makePassage, makePlan, rehearse, shortened, type Candidate, type Passage, type Plan } from '@barrow/core';
import type { Measured } from './measure.js';
import { nineSteps } from './scheduler.js';

/** Numbers from 0 to below 1 that are the same for the same seed (a linear congruence modulo 2^32). */
function numbersOf(seed: number): () => number {
  let state = seed * 2654435761 + 1;
  return () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return state / 2 ** 32;
  };
}

const legsTo = (versions: readonly string[], slow: number): Passage =>
  makePassage(
    versions.slice(1).map((to, i) => {
      const image = 'abc'[i]!.repeat(64);
      return { image, component: 'system', from: versions[i]!, to, bytes: 0, way: nineSteps(slow) };
    }),
  );

/**
 * A fleet of 40 to 600 devices in 3 to 12 sites: each site a core and access switches on it, and what is fed by those; a fifth of
 * them slow, a sixth with two images; 4 to 24 at once, in every third fleet so many for each site.
 */
export function fleetOf(seed: number): Plan {
  const next = numbersOf(seed);
  const between = (least: number, most: number): number => least + Math.floor(next() * (most - least + 1));
  const devices = between(40, 600);
  const sites = between(3, 12);
  const passages = [legsTo(['4.2.1', '4.3.0'], 1), legsTo(['4.2.1', '4.3.0'], 3), legsTo(['4.2.1', '4.3.0', '5.0.0'], 1)];
  const kinds = Array.from({ length: devices }, () => (next() < 0.2 ? 1 : next() < 0.17 ? 2 : 0));
  const candidates = kinds.map((kind, i): Candidate => {
    // The first of a site is its core, every eighth an access switch on it; what is between hangs on that.
    const inSite = Math.floor(i / sites);
    const core = i % sites;
    const access = core + (inSite - (inSite % 8)) * sites;
    return {
      device: `d${i}`,
      name: `sw-${i}`,
      address: `127.40.${i >> 8}.${i & 255}`,
      site: `site-${core}`,
      family: 'made-up',
      serial: `S${i}`,
      from: '4.2.1',
      target: kind === 2 ? '5.0.0' : '4.3.0',
      image: 'a'.repeat(64),
      passage: passages[kind]!,
      under: [...new Set([`d${i}`, `d${access}`, `d${core}`])],
      rings: [],
      feeds: [],
    };
  });
  const plan = makePlan({
    id: `r-${seed}`,
    name: `fleet ${seed}`,
    createdAt: 0,
    createdBy: 'bench',
    unsaved: 'hold',
    wayBack: false,
    first: seed % 2,
    atOnce: between(4, 24),
    perSite: seed % 3 === 0 ? between(3, 8) : 0,
    gate: { soakMs: 600_000, failureLimit: 50, approval: false },
    candidates,
    leftOut: [],
  });
  return shortened(plan, 0);
}

/** How much longer rehearsed nights are than the least that their limits allow. */
export function benchBound(fleets = 20): Measured {
  const ratios = Array.from({ length: fleets }, (_, i) => {
    const plan = fleetOf(i + 1);
    const played = rehearse(plan, 0);
    return { seed: i + 1, devices: plan.runs.length, ratio: (played.endsAt - played.beginsAt) / leastOf(plan, played) };
  });
  const worst = ratios.reduce((a, b) => (b.ratio > a.ratio ? b : a));
  const met = ratios.filter((r) => r.ratio <= 1.05).length;
  return {
    what: `rehearsed night over its least, ${fleets} fleets`,
    value: worst.ratio,
    unit: 'times, the worst',
    aim: 'at most 1.05',
    met: met === fleets,
    detail: `${met} of ${fleets} within it; the worst is seed ${worst.seed} with ${worst.devices} devices; ${ratios.map((r) => r.ratio.toFixed(3)).join(' ')}`,
  };
}
