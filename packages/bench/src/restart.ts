import { join } from 'node:path';
import Sqlite from 'libsql';
import { decide, type RolloutEvent } from '@barrow/core';
import { percentile, type Measured } from './measure.js';
import { Playing } from './playing.js';
import { bigPlan } from './scheduler.js';
import { serveForBench } from './serve.js';

const check = (name: string) => ({ name, ok: true, before: '4.2.1', after: '4.3.0', evidence: [`${name} as the plan says`], cause: null });
const facts = { checks: ['version', 'restart', 'next boot', 'settings', 'neighbours'].map(check), firmware: '4.3.0' };

/** A rollout of so many devices, played until so many things have happened, and held by a person then. */
function playedUntil(devices: number, most: number) {
  const plan = bigPlan(devices, 200);
  const events: RolloutEvent[] = [];
  const playing = new Playing(plan, Date.now() - 86_400_000, (event) => events.push(event));
  while (events.length + playing.busy.length + 1 < most && playing.state.phase !== 'ended') {
    const commands = decide(playing.state, playing.ledger, playing.now);
    for (const command of commands) playing.carryOut(command);
    if (commands.length === 0) playing.finish(0, facts);
  }
  playing.happen({ kind: 'held', at: ++playing.now, by: 'bench', reason: 'to be measured' });
  // Who is past the point of no return goes on to the end.
  while (playing.busy.length > 0) {
    playing.finish(0, facts);
    for (const command of decide(playing.state, playing.ledger, playing.now)) playing.carryOut(command);
  }
  return { plan, events };
}

/** A service that is started on a rollout of ten thousand devices in which two hundred thousand things have happened, and what it tells of each that happens then. */
export async function benchRestart(devices = 10_000, most = 200_000): Promise<Measured[]> {
  const first = await serveForBench();
  await first.halt();
  const { plan, events } = playedUntil(devices, most);
  const db = new Sqlite(join(first.data, 'barrow.db'));
  db.prepare('insert into rollout (id, name, created_at, created_by, plan, ended) values (?, ?, ?, ?, ?, 0)').run(
    plan.id,
    plan.name,
    plan.createdAt,
    plan.createdBy,
    JSON.stringify(plan),
  );
  const insert = db.prepare('insert into journal (seq, rollout, at, event) values (?, ?, ?, ?)');
  db.exec('begin');
  events.forEach((event, i) => insert.run(i + 1, plan.id, event.at, JSON.stringify(event)));
  db.exec('commit');
  db.close();

  const times: number[] = [];
  // The first start after they were brought in from outside; what it keeps serves the next.
  let service = await serveForBench([], first.folder);
  for (let i = 0; i < 3; i++) {
    await service.halt();
    const from = performance.now();
    service = await serveForBench([], first.folder);
    await service.client.raw('GET', '/health');
    times.push(performance.now() - from);
  }
  const { client } = service;
  const read = async (path: string, query = {}): Promise<string> =>
    (await client.raw('GET', `/rollouts/${plan.id}${path}`, { query })).text();
  const whole = await read('');
  let { stand } = JSON.parse(await read('/changes', { since: (JSON.parse(whole) as { stand: string }).stand })) as { stand: string };
  const told: number[] = [];
  const took: number[] = [];
  for (const { id } of plan.runs.slice(-20)) {
    await client.raw('POST', `/rollouts/${plan.id}/runs/${id}/skip`, { body: '{}', headers: { 'content-type': 'application/json' } });
    const from = performance.now();
    const changes = await read('/changes', { since: stand });
    took.push(performance.now() - from);
    told.push(changes.length);
    ({ stand } = JSON.parse(changes) as { stand: string });
  }
  await service.end();
  const restart = percentile(times, 0.5) / 1000;
  return [
    {
      what: `restart with ${events.length.toLocaleString('en')} events`,
      value: restart,
      unit: 's to answering',
      aim: 'at most 1.5',
      met: restart <= 1.5,
      detail: `${devices.toLocaleString('en')} devices, median of ${times.length}, slowest ${(Math.max(...times) / 1000).toFixed(2)} s`,
    },
    {
      what: 'what a viewer of that rollout gets of one thing that happens',
      value: percentile(told, 0.5) / 1000,
      unit: 'kB',
      aim: 'at most 20',
      met: percentile(told, 0.5) <= 20_000,
      detail: `the whole is ${(whole.length / 1e6).toFixed(1)} MB; answered in ${percentile(took, 0.5).toFixed(0)} ms, slowest ${Math.max(...took).toFixed(0)} ms`,
    },
  ];
}
