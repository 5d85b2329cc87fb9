<script lang="ts">
  import ArrowDown from '@lucide/svelte/icons/arrow-down';
  import ArrowUp from '@lucide/svelte/icons/arrow-up';
  import Funnel from '@lucide/svelte/icons/funnel';
  import Radar from '@lucide/svelte/icons/radar';
  import { kinds, standings, type Device, type DeviceColumn, type Discovery, type Kind, type Standing } from '@barrow/core';
  import type { DeviceQuery } from '@barrow/client';
  import Choose from '../parts/Choose.svelte';
  import DeviceActs from '../parts/DeviceActs.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import FirstSteps from '../parts/FirstSteps.svelte';
  import KindIcon from '../parts/KindIcon.svelte';
  import PlanDialog from '../parts/PlanDialog.svelte';
  import State from '../parts/State.svelte';
  import TakeList from '../parts/TakeList.svelte';
  import SearchBox from '../parts/SearchBox.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { inAddress, oneInAddress } from '../lib/address.js';
  import { DevicePages, deviceListOf } from '../lib/device-pages.svelte.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { saveAs } from '../lib/save.js';
  import { hear } from '../lib/live.svelte.js';
  import { choosingOf } from '../lib/choosing.js';
  import { chosenDevices } from '../lib/selection.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { count, when } from '../lib/format.js';
  import { goTo } from '../lib/place.js';

  let refused = $state<Failure | null>(null);
  let discovery = $state.raw<Discovery | null>(null);
  const text = inAddress('text');
  const site = inAddress('site');
  const kind = inAddress('kind');
  const standing = oneInAddress<Standing>('standing', standings);
  const only = oneInAddress('only', ['flagged', 'unrecognised', 'firmware-unknown'] as const);
  /** A column, with a minus before it the other way round. */
  const order = inAddress('sort');
  /** Words of single columns, as they are looked for: `model:TB-24 firmware:"4.2 b"`. */
  const by = inAddress('by');
  const wordOf = (column: string): string =>
    new RegExp(`(?:^| )${column}:(?:"([^"]*)"|(\\S+))`).exec(by.value)?.slice(1).find(Boolean) ?? '';
  function lookIn(column: DeviceColumn, word: string) {
    const words = columns.map(({ id }) => [id, (id === column ? word : wordOf(id)).replaceAll('"', '').trim()] as const);
    by.value = words.flatMap(([id, w]) => (w === '' ? [] : [/\s/.test(w) ? `${id}:"${w}"` : `${id}:${w}`])).join(' ');
  }
  let byColumn = $state(false);
  const filtersShown = $derived(byColumn || by.value !== '');
  let planning = $state(false);
  let entering = $state(false);
  let taking = $state(false);
  const nobody = { name: '', site: '', kind: 'other' as Kind, address: '', maker: '', model: '', serial: '', firmware: '' };
  let entry = $state({ ...nobody });
  const enter = async () => {
    const orNull = (t: string) => (t.trim() === '' ? null : t.trim());
    const { name, site: at, kind: of, ...rest } = entry;
    const told = Object.fromEntries(Object.entries(rest).map(([key, value]) => [key, orNull(value)]));
    const made = await client().enterDevice({ name: name.trim(), site: at.trim(), kind: of, ...told });
    entry = { ...nobody };
    goTo(`/devices/${made.id}`);
  };
  async function exportList() {
    saveAs('devices.csv', new Blob([await client().exportDevices('csv', pages.query)], { type: 'text/csv' }));
  }

  const sought = (): string => `${text.value.trim()} ${by.value}`.trim();
  /** What the list is narrowed to. */
  const filter = (): DeviceQuery => ({
    ...(sought() === '' ? {} : { text: sought() }),
    ...(site.value === '' ? {} : { site: site.value }),
    ...(kind.value === '' ? {} : { kind: kind.value }),
    ...(standing.value === '' ? {} : { standing: standing.value }),
    ...(only.value === '' ? {} : { only: only.value }),
  });
  const pages = new DevicePages(() => ({ ...filter(), ...(isColumn(order.value) ? { sort: order.value } : {}) }));
  // With the rows, not with each key.
  const counts = new Loaded(() => {
    const { text, site, kind, standing, only } = pages.query;
    return client().deviceCounts({ text, site, kind, standing, only });
  }, [...deviceListOf]);
  const failure = $derived(refused ?? pages.failure ?? counts.failure);
  const all = $derived(counts.value?.all);
  const fitting = $derived(counts.value?.fitting);
  $effect(() =>
    hear((event) => {
      if (event.kind === 'discovery') discovery = event.discovery;
    }),
  );

  // What Barrow can only record, or what waits for its partner, is no part of a rollout yet.
  const behind = $derived(fitting?.plannable ?? 0);
  const whyNone = $derived(
    fitting && fitting.behind > 0
      ? 'What is behind here is in a rollout, waits for its partner, or cannot be upgraded by Barrow.'
      : fitting && fitting.targeted > 0
        ? 'None of these is behind its target.'
        : 'None of these has a target yet.',
  );
  const isColumn = (text: string): boolean => columns.some((c) => c.id === text.replace(/^-/, ''));
  const columns: { id: DeviceColumn; word: string; of: (d: Device) => string; mono?: true }[] = [
    { id: 'name', word: 'Device', of: (d) => d.name },
    { id: 'address', word: 'Address', of: (d) => d.address ?? '', mono: true },
    { id: 'site', word: 'Site', of: (d) => d.site },
    { id: 'kind', word: 'Kind', of: (d) => d.kind },
    { id: 'model', word: 'Maker, model', of: (d) => [d.maker, d.model].filter(Boolean).join(' ') },
    { id: 'hardware', word: 'Hw', of: (d) => d.hardwareRevision ?? '', mono: true },
    { id: 'serial', word: 'Serial', of: (d) => d.serial ?? '', mono: true },
    { id: 'firmware', word: 'Firmware', of: (d) => d.firmware ?? '', mono: true },
    { id: 'target', word: 'Target', of: (d) => d.target ?? '', mono: true },
    { id: 'standing', word: 'Standing', of: (d) => d.standing },
    { id: 'seen', word: 'Last seen', of: (d) => d.lastSeen },
  ];
  const sortedAs = (id: string) => (order.value === id ? 'ascending' : order.value === `-${id}` ? 'descending' : 'none');
  const sortBy = (id: string) => (order.value = { none: id, ascending: `-${id}`, descending: '' }[sortedAs(id)]);

  const chosen = $derived(chosenDevices.all);
  const choosing = choosingOf(pages, (error) => (refused = failureOf(error)));
  const showAll = () => [text, site, kind, by].forEach((f) => (f.value = '')) ?? ((standing.value = ''), (only.value = ''));

  async function look() {
    try {
      discovery = await client().discover();
      refused = null;
    } catch (error) {
      refused = failureOf(error);
    }
  }
  const looking = $derived(discovery?.state === 'running');
</script>

<div class="head">
  <h1>Devices</h1>
  <SearchBox bind:text={text.value} label="Find devices" placeholder="Name, address, serial…" />
  <select class="select" aria-label="Site" bind:value={site.value}>
    <option value="">all sites</option>
    {#each all?.sites ?? [] as s (s)}<option>{s}</option>{/each}
  </select>
  <select class="select" aria-label="Kind" bind:value={kind.value}>
    <option value="">all kinds</option>
    {#each all?.kinds ?? [] as k (k)}<option>{k}</option>{/each}
  </select>
  <select class="select" aria-label="Only" bind:value={only.value}>
    <option value="">any state</option>
    <option value="flagged">flagged</option>
    <option value="unrecognised">no family fits</option>
    <option value="firmware-unknown">firmware unknown</option>
  </select>
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={() => (entering = true)}>Enter one</button>
    <button class="btn preset-outlined-surface-300-700" onclick={look} disabled={looking}
      ><Radar size={16} aria-hidden="true" />{looking ? 'Looking…' : 'Discover'}</button
    >
    <button
      class="btn preset-filled-primary-600-400"
      onclick={() => (planning = true)}
      disabled={behind === 0}
      aria-describedby={behind === 0 ? 'why-no-plan' : undefined}>Plan a rollout{behind > 0 ? ` of ${behind}` : ''}</button
    >
    {#if behind === 0 && all && all.total > 0}<span class="quiet" id="why-no-plan">{whyNone}</span>{/if}
  {/if}
</div>

<div class="chips" role="group" aria-label="Standing">
  {#each all?.standings ?? [] as { standing: s, devices } (s)}
    <button class="chipbtn" aria-pressed={standing.value === s} onclick={() => (standing.value = standing.value === s ? '' : s)}
      ><State word={s} /><b>{devices}</b></button
    >
  {/each}
  <button
    class="chipbtn"
    aria-pressed={filtersShown}
    onclick={() => (filtersShown ? ((byColumn = false), (by.value = '')) : (byColumn = true))}
    ><Funnel size={14} aria-hidden="true" />{by.value === '' ? 'By column' : 'By column: clear'}</button
  >
</div>

{#if chosen.length > 0 && may('operator')}<DeviceActs devices={chosen} onclear={() => chosenDevices.clear()} />{/if}
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
{#if all && may('operator')}<FirstSteps devices={all.total} />{/if}

{#snippet nobodyFits(total: number)}
  <div class="sheet">
    <Empty title="No device fits"
      >{count(total, 'device')}
      {total === 1 ? 'is' : 'are'} hidden by the search.
      <button class="anchor" onclick={showAll}>Show all</button></Empty
    >
  </div>
{/snippet}

{#if (all === undefined || pages.total === null) && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if all && all.total === 0}
  <div class="sheet">
    <Empty title="No devices yet"
      >Barrow looks only where it was told: add a network, then press Discover. <a class="anchor" href="/where">Where to look</a
      >{#if may('operator')}. Or <button class="anchor" onclick={() => (taking = true)}>take a list in</button> that somebody keeps.{/if}</Empty
    >
  </div>
{:else if all && pages.total === 0 && !filtersShown}
  {@render nobodyFits(all.total)}
{:else if all && pages.total !== null}
  <VirtualTable
    rows={pages}
    label="Devices"
    columns={columns.length + 1}
    maxHeight="calc(100vh - 12.4rem)"
    onopen={(d) => goTo(`/devices/${d.id}`)}
    ontoggle={choosing.toggle}
    isChosen={(d) => chosenDevices.has(d.id)}
  >
    {#snippet head()}
      <tr>
        <th class="c-choose"
          ><Choose
            ofAll
            label="Choose all {pages.length} that are shown"
            checked={choosing.hasAll()}
            some={chosen.length > 0}
            ontoggle={choosing.toggleAll}
          /></th
        >
        {#each columns as { id, word } (id)}
          {@const sorted = sortedAs(id)}
          <th class="c-{id}" aria-sort={sorted}>
            <button class="sort" onclick={() => sortBy(id)}>
              {word}
              {#if sorted === 'ascending'}<ArrowUp size={13} aria-hidden="true" />{:else if sorted === 'descending'}<ArrowDown
                  size={13}
                  aria-hidden="true"
                />{/if}
            </button>
          </th>
        {/each}
      </tr>
      {#if filtersShown}
        <tr class="by">
          <th class="c-choose"></th>
          {#each columns as { id, word } (id)}
            <th class="c-{id}"
              >{#if id !== 'seen'}<input
                  class="input"
                  aria-label="{word} has"
                  placeholder="has…"
                  value={wordOf(id)}
                  oninput={(event) => lookIn(id, event.currentTarget.value)}
                />{/if}</th
            >
          {/each}
        </tr>
      {/if}
    {/snippet}
    {#snippet row(d, index)}
      <td class="c-choose"
        ><Choose label="Choose {d.name}" checked={chosenDevices.has(d.id)} ontoggle={(toHere) => choosing.toggle(d, toHere, index)} /></td
      >
      {#each columns as { id, of, mono } (id)}
        <td class="c-{id}" class:mono>
          {#if id === 'name'}<a class="name" tabindex="-1" href="/devices/{d.id}">{d.name}</a>{#if d.flags.length > 0}<span
                class="bad"
                title={d.flags.map((f) => f.detail).join('; ')}
              >
                ! {d.flags[0]!.flag}</span
              >{/if}
          {:else if id === 'firmware' && d.armed}{d.firmware ?? 'unknown'}
            <span class="armed" title="Its next reset, whatever causes it, brings {d.armed.version}">armed: {d.armed.version}</span>
          {:else if id === 'firmware' && d.firmware === null}<span class="care" title={d.firmwareNote}>unknown</span>
          {:else if id === 'address' && d.address === null}<span class="quiet">through {d.parentName ?? 'nobody'}</span>
          {:else if id === 'kind'}<span class="kind" title={d.kind}><KindIcon kind={d.kind} /><span>{d.kind}</span></span>
          {:else if id === 'standing'}<State word={d.standing} note={d.standingReason ?? ''} />{#if d.rollout}<a
                class="anchor in"
                tabindex="-1"
                href="/rollouts/{d.rollout}">in a rollout</a
              >{/if}
          {:else if id === 'seen'}<span class="quiet">{when(d.lastSeen)}</span>
          {:else}{of(d) || '–'}{/if}
        </td>
      {/each}
    {/snippet}
  </VirtualTable>
  {#if pages.total === 0}{@render nobodyFits(all.total)}{/if}
  <p class="quiet foot">
    <span role="status">{pages.length === all.total ? count(all.total, 'device') : `${pages.length} of ${all.total} devices`}</span>
    <button class="anchor save" onclick={exportList}>Save as CSV</button>
    {#if may('operator')}<button class="anchor save" onclick={() => (taking = true)}>Take a list in</button>{/if}
  </p>
{/if}

{#if planning}
  <PlanDialog
    size={behind}
    ids={async () => (await client().deviceNames({ ...filter(), plannable: true })).map((d) => d.id)}
    onclose={() => (planning = false)}
    onplanned={(id) => goTo(`/rollouts/${encodeURIComponent(id)}`)}
  />
{/if}

{#if taking}<TakeList onclose={() => (taking = false)} />{/if}
{#if entering}
  <FormDialog
    title="Enter a device"
    about="What no probe reaches. What is left empty stays unknown; a discovery that finds it fills it in."
    word="Enter it"
    onclose={() => (entering = false)}
    send={enter}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Name</span><input class="input" bind:value={entry.name} required maxlength="120" /></label
      >
      <label class="label"
        ><span class="label-text">Site</span><input
          class="input"
          bind:value={entry.site}
          list="sites-here"
          required
          maxlength="60"
        /></label
      >
      <datalist id="sites-here"
        >{#each all?.sites ?? [] as s (s)}<option value={s}></option>{/each}</datalist
      >
      <label class="label"
        ><span class="label-text">Kind</span><select class="select" bind:value={entry.kind}
          >{#each kinds as k (k)}<option>{k}</option>{/each}</select
        ></label
      >
      <label class="label"><span class="label-text">Address</span><input class="input mono" bind:value={entry.address} /></label>
      <label class="label"><span class="label-text">Maker</span><input class="input" bind:value={entry.maker} /></label>
      <label class="label"><span class="label-text">Model</span><input class="input" bind:value={entry.model} /></label>
      <label class="label"><span class="label-text">Serial</span><input class="input mono" bind:value={entry.serial} /></label>
      <label class="label"><span class="label-text">Firmware</span><input class="input mono" bind:value={entry.firmware} /></label>
    </div>
  </FormDialog>
{/if}

<style>
  .armed {
    color: var(--care);
    font-weight: 600;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.5rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
  .select {
    height: 2.125rem;
    padding-block: 0;
    font-size: 0.875rem;
  }
  .select {
    width: 6.4rem;
    background-color: var(--sheet);
  }
  .chips {
    margin-bottom: 0.6rem;
    display: flex;
    flex-wrap: wrap;
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
  .by th {
    padding-block: 0.15rem 0.35rem;
  }
  .by .input {
    width: 100%;
    min-width: 3.5rem;
    height: 1.6rem;
    padding: 0 0.35rem;
    font-size: 0.8125rem;
    font-weight: 400;
    background: var(--sheet);
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
  .save {
    margin-left: 0.9rem;
  }
  .c-choose {
    width: 1.6rem;
    padding-right: 0;
  }
  /* What a list can do without goes first: it is on the page of each device. */
  @container (max-width: 79rem) {
    .c-seen {
      display: none;
    }
    .kind span {
      position: absolute;
      width: 1px;
      overflow: hidden;
      clip-path: inset(50%);
    }
  }
  @container (max-width: 72rem) {
    .c-hardware {
      display: none;
    }
  }
  @container (max-width: 64rem) {
    .c-serial {
      display: none;
    }
  }
  @container (max-width: 58rem) {
    .c-model {
      display: none;
    }
  }
  @container (max-width: 50rem) {
    .c-kind {
      display: none;
    }
  }
  @container (max-width: 42rem) {
    .c-site {
      display: none;
    }
  }
  @container (max-width: 36rem) {
    .c-address {
      display: none;
    }
  }
  @container (max-width: 26rem) {
    .c-target {
      display: none;
    }
    th,
    td {
      padding-inline: 0.35rem;
    }
  }
</style>
