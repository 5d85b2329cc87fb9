import {
  decide,
  guardsOf,
  firstSteps,
  makePassage,
  makePlan,
  rehearse,
  type Candidate,
  type Feed,
  type Link,
  type Plan,
  type Way,
} from '@barrow/core';
import { median, percentile, type Measured } from './measure.js';
import { Playing } from './playing.js';

const sites = 40;
/** A way of nine steps, each `slow` times as long as usual. */
export function nineSteps(slow = 1): Way {
  const steps = firstSteps.map((step, i) => ({ step, usualMs: (5000 + i * 1500) * slow }));
  const stretches = [
    { name: 'prepare', steps: steps.slice(0, 2) },
    { name: 'transfer', steps: steps.slice(2, 4) },
    { name: 'change', steps: steps.slice(4) },
  ];
  return { name: 'two slots', component: 'system', pointOfNoReturn: 'activate', stretches };
}
const passage = makePassage([{ image: 'a'.repeat(64), component: 'system', from: '4.2.1', to: '4.3.0', bytes: 0, way: nineSteps() }]);

/**
 * A tree as in a house of many sites: eight devices on an access switch, which feeds them; ten of those on a core, of which
 * there are two in a ring, each with two feeds.
 */
function hangs(i: number, devices: number): Pick<Candidate, 'under' | 'rings' | 'feeds'> {
  const access = i - (i % 9);
  const core = access - (access % 90);
  const under = i % 9 !== 0 ? [`d${i}`, `d${access}`, `d${core}`] : i % 90 !== 0 ? [`d${i}`, `d${core}`] : [`d${i}`];
  const isCore = i % 90 === 0;
  return {
    under,
    rings: isCore ? [`${Math.floor(i / 180)}`] : [],
    feeds: isCore ? [{ device: `ups-${(i / 90) % Math.max(1, devices / 900)}`, of: 2 }] : [],
  };
}

/** Two waves of many devices in trees, pairs and sites. */
export function bigPlan(devices: number, atOnce: number): Plan {
  const candidates = Array.from({ length: devices }, (_, i): Candidate => ({
    device: `d${i}`,
    name: `sw-${i}`,
    address: `127.40.${i >> 8}.${i & 255}`,
    site: `site-${i % sites}`,
    family: 'tarnbrook-access',
    serial: `S${i}`,
    from: '4.2.1',
    target: '4.3.0',
    image: 'a'.repeat(64),
    passage,
    ...hangs(i, devices),
  }));
  return makePlan({
    id: 'r-bench',
    name: 'bench',
    createdAt: 0,
    createdBy: 'bench',
    unsaved: 'hold',
    wayBack: false,
    first: 10,
    atOnce,
    perSite: 20,
    gate: { soakMs: 600_000, failureLimit: 50, approval: false },
    candidates,
    leftOut: [],
  });
}

/** Times every `decide` of a rollout of this size that is played to its end. */
export function benchDecide(devices: number): Measured {
  const plan = bigPlan(devices, 200);
  const playing = new Playing(plan, 0);
  const times: number[] = [];
  for (let turn = 0; playing.state.phase !== 'ended'; turn++) {
    const before = process.hrtime.bigint();
    const commands = decide(playing.state, playing.ledger, playing.now);
    times.push(Number(process.hrtime.bigint() - before) / 1e6);
    for (const command of commands) playing.carryOut(command);
    // The oldest of many steps ends, as devices do: one at a time, and the scheduler is asked after each.
    if (commands.length === 0) playing.finish((turn * 7919) % Math.max(1, playing.busy.length));
  }
  return {
    what: `decide, ${devices.toLocaleString('en')} devices`,
    value: median(times),
    unit: 'ms, median',
    aim: 'under 1 ms',
    met: median(times) < 1,
    detail: `${times.length.toLocaleString('en')} decisions, 99th percentile ${percentile(times, 0.99).toFixed(3)} ms, slowest ${Math.max(...times.slice(-100_000)).toFixed(2)} ms`,
  };
}

export function benchRehearsal(devices: number): Measured {
  const plan = bigPlan(devices, 200);
  const before = process.hrtime.bigint();
  const result = rehearse(plan, 0);
  const seconds = Number(process.hrtime.bigint() - before) / 1e9;
  return {
    what: `rehearsal, ${devices.toLocaleString('en')} devices`,
    value: seconds,
    unit: 's',
    aim: 'under 3 s',
    met: seconds < 3,
    detail: `${result.events.toLocaleString('en')} events, ${result.mostAtOnce} under way at most`,
  };
}

/** Reads single points of failure, rings and feeds of a house of many sites: rings of cores, access switches on them, phones behind those. */
export function benchGuards(devices: number): Measured {
  const ids = Array.from({ length: devices }, (_, i) => ({ id: `d${i}`, parent: null }));
  const end = (i: number) => ({ device: `d${i}`, port: null });
  const link = (a: number, b: number): Link => ({
    ...{ a: end(a), b: end(b), medium: 'wired', speedMbps: null, bundled: 1, sure: 'named', evidence: [] },
  });
  const links: Link[] = [];
  const feeds: Feed[] = [];
  for (let i = 0; i < devices; i++) {
    const core = i - (i % 90);
    const access = i - (i % 9);
    if (i === core) {
      // Cores stand in rings of ten; the first of each ring hangs on the first of all.
      const first = i - (i % 900);
      if (i !== first) links.push(link(i - 90, i));
      if (i !== first && (i + 90 >= devices || (i + 90) % 900 === 0)) links.push(link(i, first));
      if (i === first && i > 0) links.push(link(i, 0));
    } else if (i === access) links.push(link(core, i));
    else {
      links.push(link(access, i));
      feeds.push({ from: end(access), to: `d${i}`, sure: 'told', evidence: [] });
    }
  }
  const before = process.hrtime.bigint();
  const { under, rings } = guardsOf(ids, { links, feeds });
  const seconds = Number(process.hrtime.bigint() - before) / 1e9;
  const most = Math.max(...[...under.values()].map((list) => list.length));
  return {
    what: `single points of failure, ${devices.toLocaleString('en')} devices`,
    value: seconds,
    unit: 's',
    aim: 'under 0.5 s',
    met: seconds < 0.5,
    detail: `${links.length.toLocaleString('en')} links, at most ${most} above one device, ${rings.size} carry a ring`,
  };
}
