<script lang="ts">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import Radar from '@lucide/svelte/icons/radar';
  import Search from '@lucide/svelte/icons/search';
  import {
    createSortedRowModel,
    createTable,
    rowSortingFeature,
    sortFn_alphanumeric,
    tableFeatures,
    type ColumnDef,
  } from '@tanstack/svelte-table';
  import { standings, type Device, type Discovery, type Standing } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import PlanDialog from '../parts/PlanDialog.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { hear } from '../lib/live.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';
  import { navigate } from '../router.js';

  let devices = $state.raw<Device[] | null>(null);
  let failure = $state<Failure | null>(null);
  let discovery = $state.raw<Discovery | null>(null);
  let text = $state('');
  let site = $state('');
  let standing = $state<Standing | ''>('');
  let planning = $state(false);

  async function load() {
    try {
      devices = await client().devices();
      failure = null;
    } catch (error) {
      failure = failureOf(error);
    }
  }

  let pending: ReturnType<typeof setTimeout> | undefined;
  const soon = () => {
    clearTimeout(pending);
    pending = setTimeout(load, 150);
  };

  $effect(() => {
    void load();
    return hear((event) => {
      if (event.kind === 'discovery') discovery = event.discovery;
      if (event.kind === 'changed' && ['devices', 'targets', 'images', 'rollouts'].includes(event.what)) soon();
    }, load);
  });

  const sites = $derived([...new Set((devices ?? []).map((d) => d.site))].sort());
  const counts = $derived.by(() => {
    const found = new Map<Standing, number>();
    for (const d of devices ?? []) found.set(d.standing, (found.get(d.standing) ?? 0) + 1);
    return standings.filter((s) => found.has(s)).map((s) => ({ standing: s, count: found.get(s)! }));
  });
  const shown = $derived.by(() => {
    const wanted = text.trim().toLowerCase();
    return (devices ?? []).filter(
      (d) =>
        (site === '' || d.site === site) &&
        (standing === '' || d.standing === standing) &&
        (wanted === '' ||
          [d.name, d.address, d.serial, d.mac, d.model, d.firmware, d.maker].some((f) => f?.toLowerCase().includes(wanted))),
    );
  });
  const behind = $derived(shown.filter((d) => d.standing === 'behind' && d.rollout === null));

  const features = tableFeatures({
    rowSortingFeature,
    sortedRowModel: createSortedRowModel(),
    sortFns: { alphanumeric: sortFn_alphanumeric },
  });
  const shownOf: [string, string, (d: Device) => string][] = [
    ['name', 'Device', (d) => d.name],
    ['address', 'Address', (d) => d.address ?? `at ${d.parentName ?? 'no address'}`],
    ['site', 'Site', (d) => d.site],
    ['kind', 'Kind', (d) => d.kind],
    ['model', 'Maker, model', (d) => [d.maker, d.model].filter(Boolean).join(' ')],
    ['hardware', 'Hw', (d) => d.hardwareRevision ?? ''],
    ['serial', 'Serial', (d) => d.serial ?? ''],
    ['firmware', 'Firmware', (d) => d.firmware ?? ''],
    ['loader', 'Loader', (d) => d.bootLoader ?? ''],
    ['target', 'Target', (d) => d.target ?? ''],
    ['standing', 'Standing', (d) => d.standing],
    ['seen', 'Last seen', (d) => d.lastSeen],
  ];
  const columns: ColumnDef<typeof features, Device>[] = shownOf.map(([id, header, accessorFn]) => ({
    id,
    header,
    accessorFn,
    sortFn: 'alphanumeric',
  }));
  const mono = new Set(['address', 'hardware', 'serial', 'firmware', 'loader', 'target']);
  const table = createTable({
    features,
    columns,
    get data() {
      return shown;
    },
    getRowId: (d) => d.id,
  });

  async function look() {
    try {
      discovery = await client().discover();
      failure = null;
    } catch (error) {
      failure = failureOf(error);
    }
  }
  const looking = $derived(discovery?.state === 'running');
</script>

<div class="head">
  <h1>Devices</h1>
  <label class="search">
    <Search size={15} aria-hidden="true" />
    <input class="input" type="search" placeholder="Name, address, serial…" aria-label="Find devices" bind:value={text} />
  </label>
  <select class="select" aria-label="Site" bind:value={site}>
    <option value="">all sites</option>
    {#each sites as s (s)}<option>{s}</option>{/each}
  </select>
  <div class="chips" role="group" aria-label="Standing">
    {#each counts as { standing: s, count } (s)}
      <button class="chipbtn" aria-pressed={standing === s} onclick={() => (standing = standing === s ? '' : s)}
        ><State word={s} /><b>{count}</b></button
      >
    {/each}
  </div>
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={look} disabled={looking}
      ><Radar size={16} aria-hidden="true" />{looking ? 'Looking…' : 'Discover'}</button
    >
    <button class="btn preset-filled-primary-600-400" onclick={() => (planning = true)} disabled={behind.length === 0}
      >Plan a rollout{behind.length > 0 ? ` of ${behind.length}` : ''}</button
    >
  {/if}
</div>

{#if looking && discovery}
  <p class="quiet told" role="status">
    {discovery.asked} of {discovery.addresses} addresses asked, {discovery.answered} answered, {discovery.found.length} read.
  </p>
{:else if discovery}
  <p class="quiet told" role="status">
    Discovery ended {when(discovery.endedAt)}: {discovery.answered} answered; {discovery.found.filter((f) => f.what === 'new').length} new,
    {discovery.found.filter((f) => f.what === 'changed').length} changed, {discovery.silent.length} silent{discovery.silent.length > 0
      ? ` (${discovery.silent.map((s) => s.name).join(', ')})`
      : ''}.
    {#each discovery.problems as problem (problem)}<br />! {problem}{/each}
  </p>
{/if}
{#if failure}<Trouble {failure} />{/if}

{#if devices === null && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if devices && devices.length === 0}
  <div class="sheet">
    <Empty title="No devices yet"
      >Barrow looks only where it was told: add a network with <code>barrow network add</code>, then press Discover.</Empty
    >
  </div>
{:else if devices && shown.length === 0}
  <div class="sheet">
    <Empty title="No device fits"
      >{devices.length} devices are hidden by the search.
      <button class="anchor" onclick={() => ((text = ''), (site = ''), (standing = ''))}>Show all</button></Empty
    >
  </div>
{:else if devices}
  <div class="sheet scroll">
    <table class="list">
      <thead>
        {#each table.getHeaderGroups() as group (group.id)}
          <tr>
            {#each group.headers as header (header.id)}
              {@const sorted = header.column.getIsSorted()}
              <th aria-sort={sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : 'none'}>
                <button class="sort" onclick={header.column.getToggleSortingHandler()}>
                  {header.column.columnDef.header}
                  {#if sorted === 'asc'}<ArrowUp size={13} aria-hidden="true" />{:else if sorted === 'desc'}<ArrowDown
                      size={13}
                      aria-hidden="true"
                    />{/if}
                </button>
              </th>
            {/each}
          </tr>
        {/each}
      </thead>
      <tbody>
        {#each table.getRowModel().rows as row (row.id)}
          {@const d = row.original}
          <tr>
            {#each row.getAllCells() as cell (cell.id)}
              <td class:mono={mono.has(cell.column.id)}>
                {#if cell.column.id === 'name'}<a class="name" href="/devices/{d.id}">{d.name}</a>
                {:else if cell.column.id === 'standing'}<State word={d.standing} note={d.standingReason ?? ''} />{#if d.rollout}<a
                      class="anchor in"
                      href="/rollouts/{d.rollout}">in a rollout</a
                    >{/if}
                {:else if cell.column.id === 'seen'}<span class="quiet">{when(d.lastSeen)}</span>
                {:else}{cell.getValue() || '–'}{/if}
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  <p class="quiet foot">{shown.length === devices.length ? `${devices.length} devices` : `${shown.length} of ${devices.length} devices`}</p>
{/if}

{#if planning}
  <PlanDialog devices={behind} onclose={() => (planning = false)} onplanned={(id) => navigate('/rollouts/:id', { params: { id } })} />
{/if}

<style>
  .head {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
  h1 {
    font-size: 1.25rem;
    font-weight: 650;
  }
  .search {
    position: relative;
    display: flex;
    align-items: center;
  }
  .search :global(svg) {
    position: absolute;
    left: 0.6rem;
    color: var(--quiet);
  }
  .search input {
    padding-left: 2rem;
    width: 16rem;
    background: var(--sheet);
  }
  .search input,
  .select {
    height: 2.125rem;
    padding-block: 0;
    font-size: 0.875rem;
  }
  .select {
    width: auto;
    background-color: var(--sheet);
  }
  .chips {
    display: flex;
    gap: 0.35rem;
  }
  .chipbtn {
    display: inline-flex;
    align-items: center;
    gap: 0.45rem;
    padding: 0.2rem 0.6rem;
    border: 1px solid var(--line);
    border-radius: 99px;
    background: var(--sheet);
  }
  .chipbtn[aria-pressed='true'] {
    border-color: var(--now);
    box-shadow: inset 0 0 0 1px var(--now);
  }
  .grow {
    flex: 1;
  }
  .told {
    margin-bottom: 0.6rem;
  }
  .scroll {
    overflow: auto;
    max-height: calc(100vh - 11rem);
  }
  td {
    white-space: nowrap;
  }
  .name {
    font-weight: 600;
    color: var(--ink);
  }
  .sort {
    display: inline-flex;
    align-items: center;
    gap: 0.2rem;
  }
  .sort:hover {
    color: var(--ink);
  }
  .in {
    margin-left: 0.6rem;
    font-size: 0.8125rem;
  }
  .foot {
    margin-top: 0.5rem;
  }
</style>
