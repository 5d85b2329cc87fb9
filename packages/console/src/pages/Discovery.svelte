<script lang="ts">
  import Radar from '@lucide/svelte/icons/radar';
  import Square from '@lucide/svelte/icons/square';
  import type { Discovery } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import KindIcon from '../parts/KindIcon.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import WaitingHosts from '../parts/WaitingHosts.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { ProblemError } from '@barrow/client';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';

  let refused = $state<Failure | null>(null);
  let only = $state<'all' | 'changes' | 'unrecognised'>('all');
  let large = $state<Failure | null>(null);

  /** The newest one; null when nothing was looked for yet. */
  interface Shown {
    readonly discovery: Discovery | null;
  }
  const loaded: Loaded<Shown> = new Loaded<Shown>(
    async () => {
      try {
        return { discovery: await client().discovery() };
      } catch (error) {
        if (error instanceof ProblemError && error.problem.status === 404) return { discovery: null };
        throw error;
      }
    },
    [],
    (event) => {
      if (event.kind !== 'discovery') return false;
      loaded.value = { discovery: laidOver(view, event.discovery) };
      return event.discovery.state !== 'running';
    },
  );
  const view = $derived(loaded.value?.discovery ?? null);
  const none = $derived(loaded.value !== null && view === null);
  const found = $derived(view?.found ?? []);
  const troubles = $derived(view?.troubles ?? []);
  const failure = $derived(refused ?? loaded.failure);

  /** Live events carry the last finds only; they are laid over what is here, and the whole is read at the end. */
  function laidOver(before: Discovery | null, now: Discovery): Discovery {
    if (before?.id !== now.id) return now;
    const known = new Set(before.found.map((f) => f.device));
    const told = (t: Discovery['troubles'][number]): string => `${t.address} ${t.probe} ${t.detail}`;
    const had = new Set(before.troubles.map(told));
    return {
      ...now,
      found: [...before.found, ...now.found.filter((f) => !known.has(f.device))],
      troubles: [...before.troubles, ...now.troubles.filter((t) => !had.has(told(t)))],
    };
  }

  async function start(sure = false, networks: string[] = []) {
    try {
      refused = null;
      large = null;
      const begun = await client().discover(networks, sure);
      loaded.show({ discovery: { ...begun, found: [], troubles: [] } });
    } catch (error) {
      if (error instanceof ProblemError && error.problem.code === 'many-addresses') large = failureOf(error);
      else refused = failureOf(error);
    }
  }
  const stop = () =>
    client()
      .stopDiscovery()
      .catch((error: unknown) => (refused = failureOf(error)));

  const isWaiting = (flag: string): boolean => flag.startsWith('awaiting-approval');
  // Those that wait have a list of their own.
  const shownTroubles = $derived(troubles.filter((t) => t.cause !== 'awaiting-approval'));
  const running = $derived(view?.state === 'running');
  const share = $derived(view && view.addresses > 0 ? Math.round((100 * view.asked) / view.addresses) : 0);
  const stages = {
    asking: 'asking every address',
    connecting: 'trying connections',
    reading: 'reading what answered',
    following: 'following neighbours',
    settling: 'settling who is who',
    ended: 'ended',
  } as const;
  const listed = $derived.by(() => {
    const wanted = found.filter((f) =>
      only === 'changes' ? f.what !== 'same' || f.flags.some((x) => !isWaiting(x)) : only === 'unrecognised' ? !f.recognised : true,
    );
    return running ? [...wanted].reverse() : [...wanted].sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true }));
  });
  const shapes = { new: '+', changed: '≠', moved: '→', same: '=' } as const;
</script>

<div class="head">
  <h1>Discovery</h1>
  {#if view}
    <span class="quiet"
      >{running ? `begun ${when(view.startedAt)}` : `${view.state === 'done' ? 'ended' : view.state} ${when(view.endedAt)}`} by {view.startedBy},
      {view.networks.length === 1 ? `network ${view.networks[0]}` : `${view.networks.length} networks`}</span
    >
  {/if}
  <span class="grow"></span>
  {#if may('operator')}
    {#if running}<button class="btn preset-outlined-surface-300-700" onclick={stop}><Square size={14} aria-hidden="true" />Stop</button>
    {:else}<button class="btn preset-filled-primary-600-400" onclick={() => start()}><Radar size={16} aria-hidden="true" />Discover</button
      >{/if}
  {/if}
</div>
{#if failure}<Trouble {failure} />{/if}
{#if large}
  <Trouble failure={large} />
  <p class="sure"><button class="btn preset-filled-warning-600-400" onclick={() => start(true)}>I am sure: ask them all</button></p>
{/if}

{#if loaded.value === null && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if none}
  <div class="sheet">
    <Empty title="Nothing was looked for yet">Say <a class="anchor" href="/where">where to look</a>, then press Discover.</Empty>
  </div>
{:else if view}
  <div class="counts">
    <div class="sheet now">
      {#if running}
        <p><b>{stages[view.stage]}</b> <span class="quiet">{view.asked} of {view.addresses} addresses</span></p>
        <div class="track" role="progressbar" aria-valuenow={share} aria-valuemin="0" aria-valuemax="100">
          <i style:width="{share}%"></i>
        </div>
        <p class="quiet trying">
          {view.trying.length > 0 ? view.trying.slice(0, 4).join(', ') : ' '}{view.trying.length > 4
            ? ` and ${view.trying.length - 4} more`
            : ''}
        </p>
      {:else}
        <p>
          <b>{view.answered}</b> of {view.addresses} addresses answered{#if view.neighbours > 0}, {view.neighbours} of them neighbours in other
            networks{/if}.
        </p>
        <p class="quiet">
          {found.length} devices, those behind a parent among them.{view.strangeDatagrams > 0
            ? ` ${view.strangeDatagrams} datagrams came from where nobody was asked.`
            : ''}
        </p>
      {/if}
    </div>
    {#each [['new', view.counts.new, 'new'], ['changed', view.counts.changed, 'changed'], ['moved', view.counts.moved, 'moved'], ['as before', view.counts.same, 'same'], ['silent', view.silent.length, 'silent'], ['unrecognised', view.counts.unrecognised, 'unrecognised']] as [word, count, key] (key)}
      <div class="sheet tile" class:zero={count === 0}><b>{count}</b><span>{word}</span></div>
    {/each}
  </div>

  <WaitingHosts onread={(networks) => void start(true, networks)} />
  {#each view.problems as problem, nth (nth)}<p class="problem">! {problem}</p>{/each}

  {#if shownTroubles.length > 0}
    <section class="sheet" aria-label="Could not be read">
      <h2>What would not let us in, or made no sense</h2>
      <table class="list">
        <tbody>
          {#each shownTroubles as t, nth (nth)}
            <tr><td class="mono">{t.address}</td><td>{t.probe}</td><td class="bad">{t.cause}</td><td>{t.detail}</td></tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  {#if view.silent.length > 0}
    <section class="sheet" aria-label="Silent">
      <h2>Known, and silent this time</h2>
      <table class="list">
        <tbody>
          {#each view.silent as s (s.device)}
            <tr
              ><td><a class="anchor" href="/devices/{s.device}">{s.name}</a></td><td class="mono">{s.address ?? '–'}</td><td class="quiet"
                >last seen {when(s.lastSeen)}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  {#if view.seen.length > 0}
    <section class="sheet" aria-label="Named by a neighbour">
      <h2>Named by a neighbour, and not in the records</h2>
      <table class="list">
        <tbody>
          {#each view.seen as s, i (i)}
            <tr
              ><td>{s.name ?? s.mac ?? 'unnamed'}</td><td class="mono">{s.address ?? '–'}</td><td>{s.heardBy} {s.port ?? ''}</td><td
                class="quiet">{s.why === 'out-of-range' ? 'lies outside of every network' : 'did not answer'}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    </section>
  {/if}

  <section class="sheet" aria-label="Found">
    <div class="bar">
      <h2>Found{running ? ', newest first' : ''}</h2>
      <span class="grow"></span>
      <select class="select" aria-label="Which" bind:value={only}>
        <option value="all">all {found.length}</option>
        <option value="changes">changes only</option>
        <option value="unrecognised">unrecognised only</option>
      </select>
    </div>
    {#if listed.length === 0}
      <Empty title={running ? 'Nothing has been read yet' : only === 'changes' ? 'Nothing has changed' : 'Nothing of this kind'}
        >{running ? 'What answers appears here at once.' : 'Choose "all" to see everything that was found.'}</Empty
      >
    {:else}
      <div class="scroll">
        <table class="list">
          <thead><tr><th>What</th><th>Device</th><th>Address</th><th>Kind</th><th>Detail</th></tr></thead>
          <tbody>
            {#each listed.slice(0, 500) as f (f.device)}
              <tr>
                <td class="what" data-what={f.what}><span aria-hidden="true">{shapes[f.what]}</span> {f.what}</td>
                <td><a class="anchor name" href="/devices/{f.device}">{f.name}</a></td>
                <td class="mono">{f.address ?? '–'}</td>
                <td class="kind"><KindIcon kind={f.kind} /> {f.kind}</td>
                <td
                  >{f.detail}{#if !f.recognised}<span class="care">
                      no family fits</span
                    >{/if}{#each f.flags.filter((x) => !isWaiting(x)) as flag, nth (nth)}<span class="bad"> ! {flag}</span>{/each}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
      {#if listed.length > 500}<p class="quiet more">and {listed.length - 500} more; the device list has them all</p>{/if}
    {/if}
  </section>
{:else if !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

<style>
  .head {
    display: flex;
    align-items: baseline;
    gap: 0.9rem;
    margin-bottom: 0.75rem;
  }
  .head :global(.btn) {
    align-self: center;
  }
  h2 {
    font-weight: 650;
    padding: 0.6rem 0.9rem;
  }
  .bar h2 {
    padding: 0;
  }
  .bar {
    display: flex;
    align-items: center;
    padding: 0.5rem 0.9rem;
  }
  .bar .select {
    width: auto;
    height: 2rem;
    padding-block: 0;
  }
  .counts {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(6rem, 1fr));
    gap: 0.6rem;
    margin-bottom: 0.9rem;
  }
  .counts .now {
    grid-column: 1 / -1;
  }
  @media (min-width: 78rem) {
    .counts {
      grid-template-columns: minmax(20rem, 1fr) repeat(6, 6.3rem);
    }
    .counts .now {
      grid-column: auto;
    }
  }
  .now {
    padding: 0.6rem 0.9rem;
  }
  .tile {
    padding: 0.6rem 0.3rem;
  }
  .tile {
    display: grid;
    align-content: center;
    justify-items: center;
  }
  .tile b {
    font-size: 1.35rem;
    font-weight: 650;
    line-height: 1.2;
  }
  .tile.zero {
    color: var(--quiet);
  }
  .tile.zero b {
    font-weight: 400;
  }
  .track {
    height: 6px;
    border-radius: 3px;
    background: var(--ground);
    overflow: hidden;
    margin: 0.4rem 0;
  }
  .track i {
    display: block;
    height: 100%;
    background: var(--now);
  }
  .trying {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    min-height: 1.3em;
    font-size: 0.8125rem;
  }
  section {
    margin-bottom: 0.9rem;
  }
  .scroll {
    overflow: auto;
  }
  .name {
    font-weight: 600;
  }
  .what {
    white-space: nowrap;
    color: var(--quiet);
  }
  .what[data-what='new'] {
    color: var(--good);
    font-weight: 600;
  }
  .what[data-what='changed'],
  .what[data-what='moved'] {
    color: var(--care);
    font-weight: 600;
  }
  .kind {
    white-space: nowrap;
  }
  .kind :global(svg) {
    display: inline;
    vertical-align: -2px;
    color: var(--quiet);
  }
  .bad {
    color: var(--bad);
  }
  td .care,
  td .bad {
    margin-left: 0.6rem;
  }
  .care {
    color: var(--care);
  }
  .problem {
    color: var(--bad);
    margin-bottom: 0.6rem;
  }
  .sure,
  .more {
    padding: 0.6rem 0;
  }
</style>
