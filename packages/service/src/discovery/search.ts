import { setMaxListeners } from 'node:events';
import { networkInterfaces } from 'node:os';
import { addressesOf, believe, neverDevices, rangeTester, safeText, systemObjects, type Discovery } from '@barrow/core';
import { recognise, type Recognised } from '@barrow/families';
import {
  engineQuestion,
  ownMissed,
  optionsQuestion,
  probeQuestion,
  snmpQuestion,
  sweep,
  tryConnects,
  type ProbeMatch,
  type Question,
  type SipAnswer,
  type SweepAnswer,
} from '@barrow/wire';
import type { Context } from '../context.js';
import type { CredentialRow, NetworkRow } from '../data/entities.js';
import { Access } from './access.js';
import { mayBeOurs } from './patience.js';
import { Placing, type Found } from './placing.js';
import { probeFamily } from './probes/procedures.js';
import { probeSnmp } from './probes/snmp.js';
import { probeSsh } from './probes/ssh.js';
import { probeHttp, probeOnvif } from './probes/web.js';
import { emptyReading, Hearsay, type Reading, type Swept } from './reading.js';

const sweepTries = 3;
const sweepWaitMs = 400;
const connectMs = 1000;
const connectsAtOnce = 128;
/** Devices that are read at once; a read is some hundred small packets to each. */
const readsAtOnce = 24;
const networksAtOnce = 8;
/** Neighbours of neighbours are followed this far; each address is asked once, so that rings end by themselves. */
const mostRounds = 8;
const mostTroubles = 2000;

/** The addresses of this machine. */
const ownAddresses = (): string[] =>
  Object.values(networkInterfaces()).flatMap((of) => (of ?? []).map((a) => a.address).filter((a) => !a.includes('%')));

interface Plan {
  readonly network: NetworkRow;
  readonly addresses: readonly string[];
}

/** One discovery: asks, reads, follows neighbours, and settles who is who. */
export class Search {
  readonly #hearsay = new Hearsay();
  /** What told too little of itself to be placed before its neighbours were heard. */
  readonly #waiting: Reading[] = [];
  readonly #parents: { parent: string; children: readonly Record<string, string>[]; at: number }[] = [];
  readonly #asked = new Set<string>();
  /** Ends with the stop: nobody waits for a device any longer, and what it still says is left. */
  readonly #stopped: Promise<never>;
  #access!: Access;
  #placing!: Placing;

  constructor(
    private readonly context: Context,
    private readonly view: Discovery,
    private readonly tell: () => void,
    private readonly signal: AbortSignal,
  ) {
    this.#stopped = new Promise((_, reject) => signal.addEventListener('abort', () => reject(new Error('stopped')), { once: true }));
    this.#stopped.catch(() => undefined);
  }

  async run(networks: readonly NetworkRow[], configured: readonly NetworkRow[]): Promise<void> {
    const { view, signal } = this;
    // Every walk and request listens for the stop.
    setMaxListeners(0, signal);
    [this.#access, this.#placing] = await Promise.all([Access.load(this.context), Placing.load(this.context)]);
    const own = ownAddresses();
    const plans = networks.map((network) => {
      // Ourselves we do not ask, unless somebody wrote just this address; nor where no device is.
      const out = [...neverDevices, ...own.filter((address) => !network.ranges.includes(address))];
      return { network, addresses: addressesOf(network.ranges, [...network.exclude, ...out]) };
    });
    view.addresses = plans.reduce((sum, p) => sum + p.addresses.length, 0);
    for (const { network } of plans)
      if (network.credentials.length === 0)
        view.problems.push(`network ${network.name} names no credential: only what devices tell to anybody is known of it`);
    await this.#searchAll(plans);

    for (let round = 0; round < mostRounds && !signal.aborted; round++) {
      const more = this.#neighboursToFollow(configured);
      if (more.length === 0) break;
      view.stage = 'following';
      const followed = more.reduce((sum, p) => sum + p.addresses.length, 0);
      view.addresses += followed;
      view.neighbours += followed;
      await this.#searchAll(more);
    }
    // What was found is kept even when somebody stopped the search.
    view.stage = 'settling';
    this.tell();
    await this.#settle();
    view.problems.push(...this.#access.problems());
    if (signal.aborted) return;
    this.#tellSilent(new Set([...networks.map((n) => n.name)]));
    this.#tellStrangers();
  }

  async #searchAll(plans: readonly Plan[]): Promise<void> {
    const queue = [...plans];
    const searcher = async (): Promise<void> => {
      for (let plan = queue.shift(); plan !== undefined && !this.signal.aborted; plan = queue.shift()) await this.#search(plan);
    };
    // Each network has its own packet rate; together they wait only as long as the slowest.
    await Promise.all(Array.from({ length: Math.min(networksAtOnce, plans.length) }, searcher));
  }

  async #search({ network, addresses: all }: Plan): Promise<void> {
    const addresses = all.filter((a) => !this.#asked.has(a));
    for (const address of addresses) this.#asked.add(address);
    const heard = await this.#ask(network, addresses);
    if (this.signal.aborted) return;
    this.view.stage = 'reading';
    await this.#readAll(network, heard);
  }

  /** Asks by datagram, then tries connections; tells what answered at all. */
  async #ask(network: NetworkRow, addresses: readonly string[]): Promise<Map<string, Swept>> {
    const { view, signal } = this;
    const heard = new Map<string, Swept>();
    const at = (address: string): Swept => {
      let swept = heard.get(address);
      if (!swept) {
        heard.set(address, (swept = { community: null, engineId: null, onvif: null, sip: null, openPorts: new Set() }));
        view.answered++;
      }
      return swept;
    };
    const has = (probe: string): boolean => network.probes.includes(probe);
    const questions: Question[] = [];
    const communities = new Map<Question, CredentialRow>();
    if (has('snmp')) {
      for (const id of network.credentials) {
        const credential = this.#access.all.get(id);
        if (credential?.kind !== 'snmp-v2c') continue;
        const community = this.context.sealer.open(credential.sealed);
        const question = snmpQuestion(network.snmpPort, community, [systemObjects.description, systemObjects.objectId]);
        questions.push(question);
        communities.set(question, credential);
      }
      questions.push(engineQuestion(network.snmpPort));
    }
    if (has('onvif')) questions.push(probeQuestion(network.wsDiscoveryPort));
    if (has('sip')) questions.push(optionsQuestion(network.sipPort));
    let counted = 0;
    const count = (asked: number): void => {
      view.asked += Math.max(0, asked - counted);
      counted = Math.max(counted, asked);
      this.tell();
    };
    const missed = ownMissed();
    const hearSnmp = ({ address, question, answer }: SweepAnswer): void => {
      const community = communities.get(question);
      const swept = at(address);
      // Of several that are answered the one that its network names first: another may be allowed to write as well.
      const goesBefore = (before: CredentialRow): boolean =>
        network.credentials.indexOf(community!.id) < network.credentials.indexOf(before.id);
      if (community && (swept.community === null || goesBefore(swept.community))) swept.community = community;
      else if (question.group === 'snmp-v3') at(address).engineId = (answer as { engineId: string }).engineId;
    };
    if (questions.length > 0) {
      view.stage = 'asking';
      const result = await sweep({
        addresses,
        questions,
        packetsPerSecond: network.packetsPerSecond,
        tries: sweepTries,
        waitMs: sweepWaitMs,
        signal,
        onAnswer: (told) => {
          const { address, question, answer } = told;
          hearSnmp(told);
          if (question.group === 'ws-discovery') at(address).onvif = answer as ProbeMatch;
          else if (question.group === 'sip') at(address).sip = answer as SipAnswer;
        },
        onProgress: (sent, of) => count(Math.floor((sent / of) * addresses.length)),
      });
      view.strangeDatagrams += result.strange;
    }
    const ports = [...(has('ssh') ? [network.sshPort] : []), ...(has('http') || has('onvif') ? [network.httpPort, network.httpsPort] : [])];
    if (ports.length > 0 && !signal.aborted) {
      view.stage = 'connecting';
      await tryConnects({
        addresses,
        ports: [...new Set(ports)],
        connectsPerSecond: network.packetsPerSecond,
        atOnce: connectsAtOnce,
        timeoutMs: connectMs,
        signal,
        onOpen: (address, port) => at(address).openPorts.add(port),
        onProgress: () => this.tell(),
      });
    }
    if (!signal.aborted && has('snmp') && mayBeOurs(missed)) {
      // On a machine that has too much to do, silence is asked again of all that answered something else.
      const silent = [...heard].flatMap(([address, s]) => (s.community === null && s.engineId === null ? [address] : []));
      const again = questions.filter((q) => communities.has(q) || q.group === 'snmp-v3');
      const { packetsPerSecond } = network;
      if (silent.length > 0)
        await sweep({ addresses: silent, questions: again, packetsPerSecond, tries: 4, waitMs: 1500, signal, onAnswer: hearSnmp });
    }
    if (!signal.aborted) count(addresses.length);
    return heard;
  }

  async #readAll(network: NetworkRow, heard: ReadonlyMap<string, Swept>): Promise<void> {
    const { view, signal } = this;
    const queue = [...heard];
    const reader = async (): Promise<void> => {
      for (let next = queue.shift(); next !== undefined && !signal.aborted; next = queue.shift()) {
        const [address, swept] = next;
        const reading = emptyReading(address, network, Date.now());
        try {
          await this.#read(reading, swept);
          if (reading.around) this.#hearsay.add(reading.around, believe(reading.findings).values.name ?? address);
          // By SNMP a device tells who it is; what tells less is placed when its neighbours have been heard.
          if (reading.around !== null && this.#placing.turnOf(reading) === 0) await this.#place(reading);
          else this.#waiting.push(reading);
        } catch (error) {
          if (signal.aborted) return;
          view.problems.push(`${address} could not be read: ${safeText((error as Error).message, 300)}`);
          this.context.log.error({ error, address }, 'reading a device failed');
        }
      }
    };
    await Promise.all(Array.from({ length: Math.min(readsAtOnce, heard.size) }, reader));
  }

  async #read(reading: Reading, swept: Swept): Promise<void> {
    const { view, signal, context } = this;
    const { address, network } = reading;
    const during = async <T>(what: string, work: Promise<T>): Promise<T> => {
      // Whatever it still ends with after a stop is nobody's concern.
      work.catch(() => undefined);
      const text = `${address} by ${what}`;
      view.trying.push(text);
      this.tell();
      try {
        return await Promise.race([work, this.#stopped]);
      } finally {
        view.trying.splice(view.trying.indexOf(text), 1);
      }
    };
    const has = (probe: string): boolean => network.probes.includes(probe);
    if (has('snmp') && (swept.community || swept.engineId)) await during('SNMP', probeSnmp(context, this.#access, reading, swept, signal));
    if (signal.aborted) return;
    if (has('ssh') && swept.openPorts.has(network.sshPort)) await during('SSH', probeSsh(reading));
    if (has('http') && swept.openPorts.has(network.httpPort)) await during('HTTP', probeHttp(reading, false, signal));
    if (has('http') && swept.openPorts.has(network.httpsPort)) await during('HTTPS', probeHttp(reading, true, signal));
    if (swept.onvif !== null && !signal.aborted) await during('ONVIF', probeOnvif(context, this.#access, reading, swept, signal));
    if (swept.sip !== null) {
      const { userAgent, server, status, reason, allow } = swept.sip;
      const shown = (text: string | null): string | null => (text === null ? null : safeText(text, 400));
      reading.heard.sip = { userAgent: shown(userAgent), server: shown(server) };
      reading.seen.push({
        probe: 'SIP OPTIONS',
        raw: { status, reason: shown(reason), userAgent: shown(userAgent), server: shown(server), allow: shown(allow) },
        parsed: { userAgent: shown(userAgent), server: shown(server) },
      });
    }
    this.#recognise(reading);
    if (signal.aborted) return;
    await during('the procedures of its family', probeFamily(context, this.#access, reading, this.#placing.hostAt(reading), signal));
  }

  /** What a person said that the device at an address is, which no probe overrules. */
  #saidToBe(address: string): Recognised | null {
    const known = this.#placing.at(address);
    const family = known?.byHand.includes('family') ? this.context.families.get(known.family ?? '') : undefined;
    return family ? { family, evidence: 'a person said so', caught: {} } : null;
  }

  #recognise(reading: Reading): void {
    const found = this.#saidToBe(reading.address) ?? recognise(this.context.families.values(), reading.heard);
    if (!found) return;
    reading.recognised = found;
    const { model, firmware, hardwareRevision, serial, mac } = found.caught;
    // What a rule's patterns caught is believed least: it stands in texts made for people.
    reading.findings.push({
      probe: found.evidence.split(' matches ')[0]!,
      values: { maker: found.family.maker, model, firmware, hardwareRevision, serial, mac },
    });
  }

  async #place(reading: Reading): Promise<void> {
    const found = await this.#placing.place(reading);
    for (const { probe, cause, detail } of reading.troubles)
      if (this.view.troubles.length < mostTroubles) this.view.troubles.push({ address: reading.address, probe, cause, detail });
    if (!found) return;
    if (reading.children) this.#parents.push({ parent: found.device, children: reading.children, at: reading.at });
    this.#count(found);
  }

  #count(found: Found): void {
    const { view } = this;
    view.found.push(found);
    view.counts[found.what]++;
    if (!found.recognised) view.counts.unrecognised++;
    this.tell();
  }

  /** Adds to the waiting what neighbours say of them, then places them, and then the children of all parents. */
  async #settle(): Promise<void> {
    const waiting = this.#waiting.splice(0);
    for (const reading of waiting) {
      const { address } = reading;
      const arp = this.#hearsay.macOf(address);
      if (arp) reading.findings.push({ probe: `address table of ${arp.by}`, values: { mac: arp.mac } });
      const heard = this.#hearsay.neighbour(address, believe(reading.findings).values.mac);
      if (heard) {
        const { neighbour, by } = heard;
        const { inventory, description, chassisMac, name } = neighbour;
        reading.heard.lldp = { maker: inventory?.maker ?? null, model: inventory?.model ?? null, description };
        reading.capabilities = neighbour.capabilities;
        if (inventory) reading.findings.push({ probe: `LLDP-MED, heard by ${by}`, values: inventory });
        reading.findings.push({ probe: `LLDP, heard by ${by}`, values: { name, mac: chassisMac } });
        reading.seen.push({
          probe: `LLDP, heard by ${by}`,
          raw: {
            name,
            description,
            chassisMac,
            addresses: neighbour.addresses,
            capabilities: neighbour.capabilities,
            ...(inventory ? { inventory } : {}),
          },
          parsed: { name, ...(inventory ?? {}) },
        });
        if (!reading.recognised) this.#recognise(reading);
      }
    }
    const turns = new Map(waiting.map((r) => [r, this.#placing.turnOf(r)]));
    // First everything that is where it was known, then what has moved, then what stands in another's place.
    for (const turn of [0, 1, 2] as const) {
      const now = waiting.filter((r) => turns.get(r) === turn);
      for (const reading of now) await this.#place(reading);
    }
    for (const { parent, children, at } of this.#parents.splice(0)) {
      const row = this.#placing.rows.get(parent)!;
      for (const told of children) {
        const found = await this.#placing.placeChild(row, told, this.#hearsay, at);
        if (found) this.#count(found);
      }
      this.#childrenRead.add(parent);
    }
  }
  readonly #childrenRead = new Set<string>();

  /** Neighbours that LLDP names at addresses inside a configured network, and that nobody has asked yet. */
  #neighboursToFollow(configured: readonly NetworkRow[]): Plan[] {
    const testers = configured.map((network) => ({ network, has: rangeTester(network.ranges, network.exclude) }));
    const plans = new Map<string, { network: NetworkRow; addresses: Set<string> }>();
    for (const { neighbour } of this.#hearsay.named)
      for (const address of neighbour.addresses) {
        if (this.#asked.has(address)) continue;
        const found = testers.find((t) => t.has(address));
        if (!found) continue;
        const plan = plans.get(found.network.id) ?? { network: found.network, addresses: new Set() };
        plan.addresses.add(address);
        plans.set(found.network.id, plan);
      }
    return [...plans.values()].map(({ network, addresses }) => ({ network, addresses: [...addresses] }));
  }

  #tellSilent(networks: ReadonlySet<string>): void {
    for (const row of this.#placing.rows.values()) {
      if (!networks.has(row.network) || this.#placing.seen.has(row.id)) continue;
      // Whoever was not asked, since no range has its address any longer, is not silent.
      if (row.address !== '' && !this.#asked.has(row.address)) continue;
      // Whose parent could not be asked is not silent: nobody knows.
      if (row.address === '' && (row.parent === null || !this.#childrenRead.has(row.parent))) continue;
      this.view.silent.push({
        device: row.id,
        name: row.name,
        address: row.address === '' ? null : row.address,
        lastSeen: new Date(row.lastSeen).toISOString(),
      });
    }
  }

  #tellStrangers(): void {
    const macs = new Set<string>();
    const addresses = new Set<string>();
    const names = new Set<string>();
    for (const row of this.#placing.rows.values()) {
      if (row.mac !== null) macs.add(row.mac);
      for (const a of [row.address, ...row.addresses]) addresses.add(a);
      names.add(row.name.toLowerCase());
    }
    for (const { neighbour: n, by, port } of this.#hearsay.named) {
      if (n.chassisMac !== null && macs.has(n.chassisMac)) continue;
      if (n.addresses.some((a) => addresses.has(a))) continue;
      if (n.name !== null && names.has(n.name.toLowerCase())) continue;
      const address = n.addresses[0] ?? null;
      this.view.seen.push({
        name: n.name,
        address,
        mac: n.chassisMac,
        heardBy: by,
        port,
        why: address !== null && !this.#asked.has(address) ? 'out-of-range' : 'no-answer',
      });
    }
  }
}
