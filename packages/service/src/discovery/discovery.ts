import { countAddresses, mostAddresses, type Discovery } from '@barrow/core';
import { rfc3339, type Context } from '../context.js';
import { DiscoveryEntity, NetworkEntity, type NetworkRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import { Search } from './search.js';

/** How many of the last finds a live event carries. */
const toldFinds = 40;
const tellEveryMs = 200;

interface Running {
  readonly view: Discovery;
  readonly stop: AbortController;
  readonly ended: Promise<void>;
}

/** Looks for devices in the configured networks, and only there. */
export class DiscoveryService {
  #running: Running | null = null;

  constructor(private readonly context: Context) {}

  /** @throws Refusal when one is running already, there is nowhere to look, or it would be more than anybody means unasked. */
  async start(networks: readonly NetworkRow[], by: string, sure = false): Promise<Discovery> {
    if (this.#running)
      throw new Refusal(
        409,
        'discovery-running',
        'A discovery is running already',
        `It was started by ${this.#running.view.startedBy}.`,
        'Wait for it to end, or stop it.',
      );
    if (networks.length === 0)
      throw new Refusal(
        422,
        'no-networks',
        'There is nowhere to look',
        'No network is configured, and nothing else is ever scanned.',
        'Add one with `barrow network add`.',
      );
    const addresses = networks.reduce((sum, n) => sum + countAddresses(n.ranges, n.exclude), 0);
    if (addresses > mostAddresses && !sure)
      throw new Refusal(
        422,
        'many-addresses',
        'The discovery was not started',
        `It would ask ${addresses} addresses, more than ${mostAddresses}.`,
        'Name fewer networks, or say that you are sure: `barrow discover --sure`.',
      );
    const view: Discovery = {
      id: newId('f'),
      state: 'running',
      stage: 'asking',
      startedAt: rfc3339(Date.now()),
      endedAt: null,
      startedBy: by,
      networks: networks.map((n) => n.name),
      addresses: 0,
      neighbours: 0,
      asked: 0,
      answered: 0,
      strangeDatagrams: 0,
      trying: [],
      counts: { new: 0, changed: 0, moved: 0, same: 0, unrecognised: 0 },
      found: [],
      silent: [],
      seen: [],
      troubles: [],
      problems: [],
    };
    const stop = new AbortController();
    this.#running = { view, stop, ended: this.#run(view, networks, stop.signal).then(() => this.#finish(view)) };
    return view;
  }

  async #run(view: Discovery, networks: readonly NetworkRow[], signal: AbortSignal): Promise<void> {
    try {
      const configured = await this.context.db.find(NetworkEntity);
      await new Search(this.context, view, () => this.#tell(view), signal).run(networks, configured);
      if (signal.aborted) view.state = 'stopped';
    } catch (error) {
      view.state = 'failed';
      view.problems.push(error instanceof Error ? error.message : String(error));
      this.context.log.error({ error: { message: (error as Error).message, stack: (error as Error).stack } }, 'discovery failed');
    }
  }

  /** Told as ended only once it is kept and the next may begin. */
  async #finish(view: Discovery): Promise<void> {
    view.trying.splice(0);
    const ended: Discovery = {
      ...view,
      stage: 'ended',
      endedAt: rfc3339(Date.now()),
      state: view.state === 'running' ? 'done' : view.state,
    };
    await this.context.db.write(async (em) => {
      await em.insert(DiscoveryEntity, { id: view.id, startedAt: Date.parse(view.startedAt), result: ended });
      // What is found later waits for a person again.
      if (ended.state === 'done')
        await em.nativeUpdate(NetworkEntity, { name: { $in: [...view.networks] }, trustNow: true }, { trustNow: false });
    });
    this.context.live.changed('networks');
    Object.assign(view, ended);
    this.#running = null;
    this.context.live.changed('devices');
    this.context.live.tell({ kind: 'discovery', discovery: brief(view) });
  }

  async stop(): Promise<void> {
    this.#running?.stop.abort();
    await this.#running?.ended;
  }

  /** @throws Refusal */
  async get(id: string): Promise<Discovery> {
    if (this.#running && (id === 'latest' || this.#running.view.id === id)) return this.#running.view;
    const row = await this.context.db.findOne(DiscoveryEntity, id === 'latest' ? {} : { id }, { orderBy: { startedAt: 'desc' } });
    if (!row) throw notFound('discovery', id, 'Start one with `barrow discover`.');
    return row.result as Discovery;
  }

  #toldAt = 0;
  #tell(view: Discovery): void {
    const now = Date.now();
    if (now - this.#toldAt < tellEveryMs) return;
    this.#toldAt = now;
    this.context.live.tell({ kind: 'discovery', discovery: brief(view) });
    this.context.live.changed('devices');
  }
}

/** A discovery as live events carry it: with its last finds only. */
function brief(view: Discovery): Discovery {
  return { ...view, found: view.found.slice(-toldFinds), troubles: view.troubles.slice(-toldFinds), trying: view.trying.slice(0, 12) };
}
