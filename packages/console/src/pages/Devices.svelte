<script lang="ts">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import Radar from '@lucide/svelte/icons/radar';
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
  import KindIcon from '../parts/KindIcon.svelte';
  import PlanDialog from '../parts/PlanDialog.svelte';
  import State from '../parts/State.svelte';
  import SearchBox from '../parts/SearchBox.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { hear } from '../lib/live.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';
  import { goTo } from '../lib/place.js';

  let devices = $state.raw<Device[] | null>(null);
  let failure = $state<Failure | null>(null);
  let discovery = $state.raw<Discovery | null>(null);
  let text = $state('');
  let site = $state('');
  let standing = $state<Standing | ''>('');
  let kind = $state('');
  let only = $state<'' | 'flagged' | 'unrecognised' | 'firmware-unknown'>('');
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
  const kindsHere = $derived([...new Set((devices ?? []).map((d) => d.kind))].sort());
  const onlyTests: Record<Exclude<typeof only, ''>, (d: Device) => boolean> = {
    flagged: (d) => d.flags.length > 0,
    unrecognised: (d) => d.family === null,
    'firmware-unknown': (d) => d.firmware === null,
  };
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
        (kind === '' || d.kind === kind) &&
        (only === '' || onlyTests[only](d)) &&
        (wanted === '' ||
          [d.name, d.address, d.serial, d.mac, d.model, d.firmware, d.maker, d.note, d.parentName, ...d.tags].some((f) =>
            f?.toLowerCase().includes(wanted),
          )),
    );
  });
  // What Barrow can only record, or what waits for its partner, is no part of a rollout yet.
  const behind = $derived(shown.filter((d) => d.standing === 'behind' && d.rollout === null && d.upgradable && d.path[0]?.on === null));

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
    ['firmware', 'Firmware', (d) => d.firmware ?? 'unknown'],
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

  const rows = $derived(table.getRowModel().rows);
</script>

<div class="head">
  <h1>Devices</h1>
  <SearchBox bind:text label="Find devices" placeholder="Name, address, serial…" />
  <select class="select" aria-label="Site" bind:value={site}>
    <option value="">all sites</option>
    {#each sites as s (s)}<option>{s}</option>{/each}
  </select>
  <select class="select" aria-label="Kind" bind:value={kind}>
    <option value="">all kinds</option>
    {#each kindsHere as k (k)}<option>{k}</option>{/each}
  </select>
  <select class="select" aria-label="Only" bind:value={only}>
    <option value="">any state</option>
    <option value="flagged">flagged</option>
    <option value="unrecognised">no family fits</option>
    <option value="firmware-unknown">firmware unknown</option>
  </select>
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

<div class="chips" role="group" aria-label="Standing">
  {#each counts as { standing: s, count } (s)}
    <button class="chipbtn" aria-pressed={standing === s} onclick={() => (standing = standing === s ? '' : s)}
      ><State word={s} /><b>{count}</b></button
    >
  {/each}
</div>

{#if looking && discovery}
  <p class="quiet told" role="status">
    {discovery.asked} of {discovery.addresses} addresses asked, {discovery.answered} answered.
    <a class="anchor" href="/discovery">Watch it</a>
  </p>
{:else if discovery}
  <p class="quiet told" role="status">
    Discovery ended {when(discovery.endedAt)}: {discovery.counts.new} new, {discovery.counts.changed} changed, {discovery.counts.moved} moved,
    {discovery.silent.length} silent. <a class="anchor" href="/discovery">See all of it</a>
  </p>
{/if}
{#if failure}<Trouble {failure} />{/if}

{#if devices === null && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if devices && devices.length === 0}
  <div class="sheet">
    <Empty title="No devices yet"
      >Barrow looks only where it was told: add a network, then press Discover. <a class="anchor" href="/where">Where to look</a></Empty
    >
  </div>
{:else if devices && shown.length === 0}
  <div class="sheet">
    <Empty title="No device fits"
      >{devices.length} devices are hidden by the search.
      <button class="anchor" onclick={() => ((text = ''), (site = ''), (standing = ''), (kind = ''), (only = ''))}>Show all</button></Empty
    >
  </div>
{:else if devices}
  <VirtualTable {rows} columns={shownOf.length} maxHeight="calc(100vh - 12.4rem)">
    {#snippet head()}
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
    {/snippet}
    {#snippet row(row)}
      {@const d = row.original}
      {#each row.getAllCells() as cell (cell.id)}
        <td class:mono={mono.has(cell.column.id)}>
          {#if cell.column.id === 'name'}<a class="name" href="/devices/{d.id}">{d.name}</a>{#if d.flags.length > 0}<span
                class="bad"
                title={d.flags.map((f) => f.detail).join('; ')}
              >
                ! {d.flags[0]!.flag}</span
              >{/if}
          {:else if cell.column.id === 'firmware' && d.armed}{d.firmware ?? 'unknown'}
            <span class="armed" title="Its next reset, whatever causes it, brings {d.armed.version}">armed: {d.armed.version}</span>
          {:else if cell.column.id === 'firmware' && d.firmware === null}<span class="care" title={d.firmwareNote}>unknown</span>
          {:else if cell.column.id === 'address' && d.address === null}<span class="quiet">through {d.parentName ?? 'nobody'}</span>
          {:else if cell.column.id === 'kind'}<span class="kind"><KindIcon kind={d.kind} />{d.kind}</span>
          {:else if cell.column.id === 'standing'}<State word={d.standing} note={d.standingReason ?? ''} />{#if d.rollout}<a
                class="anchor in"
                href="/rollouts/{d.rollout}">in a rollout</a
              >{/if}
          {:else if cell.column.id === 'seen'}<span class="quiet">{when(d.lastSeen)}</span>
          {:else}{cell.getValue() || '–'}{/if}
        </td>
      {/each}
    {/snippet}
  </VirtualTable>
  <p class="quiet foot">{shown.length === devices.length ? `${devices.length} devices` : `${shown.length} of ${devices.length} devices`}</p>
{/if}

{#if planning}
  <PlanDialog devices={behind} onclose={() => (planning = false)} onplanned={(id) => goTo(`/rollouts/${encodeURIComponent(id)}`)} />
{/if}

<style>
  .armed {
    color: var(--care);
    font-weight: 600;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
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
    margin-bottom: 0.6rem;
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
  .told {
    margin-bottom: 0.6rem;
  }
  .kind {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
  }
  .kind :global(svg) {
    color: var(--quiet);
  }
  .bad {
    color: var(--bad);
  }
  .care {
    color: var(--care);
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
