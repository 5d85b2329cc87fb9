<script lang="ts">
  import ShieldCheck from '@lucide/svelte/icons/shield-check';
  import { octets } from '@barrow/client';
  import type { Carried, Image } from '@barrow/core';
  import Channel from '../parts/Channel.svelte';
  import DropZone from '../parts/DropZone.svelte';
  import Empty from '../parts/Empty.svelte';
  import SearchBox from '../parts/SearchBox.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { saveAs } from '../lib/save.js';
  import { client, failureOf, may } from '../lib/session.svelte.js';

  let text = $state('');
  let verifying = $state(false);
  let checked = $state.raw<{ sha256: string; file: string; sound: boolean; detail: string }[] | null>(null);

  const loaded = new Loaded(async () => {
    const [images, families] = await Promise.all([client().images(), client().families()]);
    return { images, families };
  }, ['images', 'devices', 'targets']);
  const images = $derived(loaded.value?.images ?? null);
  const families = $derived(loaded.value?.families ?? []);
  let carried = $state.raw<Carried | null>(null);
  let picker = $state<HTMLInputElement | null>(null);
  let busy = $state('');
  async function attempt(doing: string, work: () => Promise<unknown>) {
    busy = doing;
    try {
      await work();
      loaded.failure = null;
    } catch (error) {
      loaded.failure = failureOf(error);
    }
    busy = '';
  }
  const saveAll = () =>
    attempt('Writing the archive…', async () => saveAs('barrow-images.tar', await new Response(await client().exportImages()).blob()));
  const takeArchive = (files: FileList | null) =>
    attempt('Reading the archive…', async () => {
      if (files?.[0]) carried = await client().importImages(files[0]);
    });
  async function verify() {
    verifying = true;
    try {
      checked = await client().verifyImages();
    } catch (error) {
      loaded.failure = failureOf(error);
    }
    verifying = false;
  }
  const rotten = $derived((checked ?? []).filter((c) => !c.sound));
  const titles = $derived(new Map(families.map((f) => [f.family, f.title])));
  const groups = $derived.by(() => {
    const wanted = text.trim().toLowerCase();
    const found = new Map<string, Image[]>();
    for (const i of images ?? []) {
      const said = [i.file, i.version, i.family, i.channel, ...i.models].join('\n').toLowerCase();
      if (wanted !== '' && !said.includes(wanted) && !i.sha256.startsWith(wanted)) continue;
      const list = found.get(i.family);
      if (list) list.push(i);
      else found.set(i.family, [i]);
    }
    return [...found];
  });
</script>

<div class="head">
  <h1>Images</h1>
  <SearchBox bind:text label="Find images" placeholder="File, version, model…" />
  {#if images}<span class="quiet"
      >{images.length === 1 ? '1 image' : `${images.length} images`}, {octets(images.reduce((sum, i) => sum + i.bytes, 0))}</span
    >{/if}
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={verify} disabled={verifying}
      ><ShieldCheck size={16} aria-hidden="true" />{verifying ? 'Reading the store…' : 'Read the store again'}</button
    >
  {/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if checked}
  {#if rotten.length === 0}
    <p class="quiet told" role="status">All {checked.length} images are as they were added.</p>
  {:else}
    {#each rotten as r (r.sha256)}
      <Trouble
        failure={{ what: `${r.file} has rotted`, why: r.detail, next: 'It is never staged. Add it again from its source; that mends it.' }}
      />
    {/each}
  {/if}
{/if}
{#if may('operator')}<DropZone />{/if}
{#if may('operator')}
  <p class="quiet told">
    For a place without a network:
    <button class="anchor" onclick={saveAll} disabled={busy !== '' || images?.length === 0}>save all to one archive</button>, or
    <button class="anchor" onclick={() => picker?.click()} disabled={busy !== ''}>take an archive in</button>.
    <span role="status"
      >{#if busy}{busy}{:else if carried}{carried.images.filter((i) => i.what === 'added').length} of {carried.images.length} images were new,
        {carried.families.filter((f) => f.what === 'added').length} families, {carried.targets.filter((t) => t.what === 'added').length} targets.{/if}</span
    >
    <input
      bind:this={picker}
      type="file"
      accept=".tar"
      hidden
      aria-label="An archive"
      onchange={(e) => takeArchive(e.currentTarget.files)}
    />
  </p>
{/if}

{#if images === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if images && images.length === 0}
  <div class="sheet"><Empty title="The store is empty">Drop image files above, or <code>barrow image add FILE</code>.</Empty></div>
{:else if images && groups.length === 0}
  <div class="sheet"><Empty title="No image fits">{images.length} images are hidden by the search.</Empty></div>
{:else if images}
  <div class="sheet">
    <table class="list">
      <thead>
        <tr
          ><th>Image</th><th>Version</th><th>Channel</th><th>For</th><th>Hardware</th><th class="num">Size</th><th class="num">Fits</th><th
            class="num">Run it</th
          ><th class="num">Take it onward</th></tr
        >
      </thead>
      <tbody>
        {#each groups as [family, list] (family)}
          <tr class="group"><th colspan="9" scope="rowgroup">{titles.get(family) ?? family}</th></tr>
          {#each list as i (i.sha256)}
            <tr class:gone={i.withdrawn !== null}>
              <td
                ><a class="name mono" href="/images/{i.sha256}">{i.file}</a>{#if i.files.length > 1}<span class="quiet">
                    {i.files.length} files</span
                  >{/if}</td
              >
              <td class="mono"
                >{i.version}{#if i.component === 'boot-loader'}<span class="quiet"> boot loader</span>{/if}</td
              >
              <td><Channel image={i} /></td>
              <td
                >{i.models.join(', ')}{#if i.variant}<b> {i.variant}</b>{/if}</td
              >
              <td class="mono">{i.hardwareRevisions.join(' ')}</td>
              <td class="num">{octets(i.bytes)}</td>
              <td class="num">{i.fits || '–'}</td>
              <td class="num">{i.runs || '–'}</td>
              <td class="num"
                >{#if i.onPaths > 0}<b>{i.onPaths}</b>{:else}–{/if}</td
              >
            </tr>
          {/each}
        {/each}
      </tbody>
    </table>
  </div>
{/if}

<style>
  .told {
    margin-bottom: 0.6rem;
  }
  .group th {
    position: static;
    padding-top: 0.8rem;
    color: var(--ink);
    font-weight: 650;
    border-bottom: 1px solid var(--line);
  }
  .gone .name {
    text-decoration: line-through;
    text-decoration-color: var(--bad);
  }
</style>
