<script lang="ts">
  import Upload from '@lucide/svelte/icons/upload';
  import { octets } from '@barrow/client';
  import { takeIn, uploads } from '../lib/uploads.svelte.js';
  import { may } from '../lib/session.svelte.js';
  import TargetThis from './TargetThis.svelte';
  import Words from './Words.svelte';

  let over = $state(false);
  let picker = $state<HTMLInputElement | null>(null);
  /** The one that was taken last: what it brings may be the version to run. */
  const newest = $derived(uploads.list.find((one) => one.taken));
  const words = { waiting: 'waiting', sending: 'sending', checking: 'being checked', taken: 'taken', refused: 'refused' };

  function take(list: FileList | null | undefined) {
    const files = [...(list ?? [])];
    if (files.length > 0) void takeIn(files);
  }
  function drop(event: DragEvent) {
    event.preventDefault();
    over = false;
    take(event.dataTransfer?.files);
  }
</script>

<section
  class="sheet drop"
  class:over
  aria-label="Add images"
  ondragover={(e) => (e.preventDefault(), (over = true))}
  ondragleave={() => (over = false)}
  ondrop={drop}
>
  <Upload size={18} aria-hidden="true" />
  <span class="grow"
    >Drop images here, with their notes and checksum files, or archives of them.
    <span class="quiet">Each is read, matched and checked before it is taken.</span></span
  >
  <button class="btn preset-outlined-surface-300-700" onclick={() => picker?.click()}>Choose files</button>
  <input
    bind:this={picker}
    type="file"
    multiple
    hidden
    aria-label="Image files"
    onchange={(e) => (take(e.currentTarget.files), (e.currentTarget.value = ''))}
  />
</section>

{#if uploads.list.length > 0}
  <ul class="sheet going" aria-label="Uploads" aria-live="polite">
    {#each uploads.list as one (one)}
      <li data-state={one.state}>
        <b class="mono">{one.label}</b>
        <span class="word">{words[one.state]}</span>
        {#if one.state === 'sending'}
          <progress max={one.bytes} value={one.sent}></progress>
          <span class="quiet">{octets(one.sent)} of {octets(one.bytes)}</span>
        {:else if one.taken}
          <span class="detail">
            {#each one.taken.images as made, nth (nth)}
              <span
                >{made.isNew ? 'Added' : 'Here already'}: <a class="anchor" href="/images/{made.sha256}">{made.file}</a>, version {made.version},
                for {made.models.join(', ')}</span
              >
              {#if may('operator') && made.component === 'system' && one === newest}<TargetThis
                  family={made.family}
                  version={made.version}
                />{/if}
            {/each}
            {#each one.taken.remarks as remark, nth (nth)}<span class="quiet">{remark}</span>{/each}
          </span>
        {:else if one.failure}
          <span class="detail"
            ><span><Words text={one.failure.why} /></span><span class="quiet"><Words text={one.failure.next} /></span></span
          >
        {/if}
      </li>
    {/each}
  </ul>
{/if}

<style>
  .drop {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.5rem 0.8rem;
    padding: 0.7rem 1rem;
    border-style: dashed;
    margin-bottom: 0.8rem;
  }
  .drop :global(svg) {
    color: var(--quiet);
    flex: none;
  }
  .over {
    border-color: var(--now);
    background: color-mix(in oklab, var(--now) 8%, var(--sheet));
  }
  .grow {
    flex: 1 1 12rem;
  }
  .going {
    margin-bottom: 0.8rem;
    max-height: 14rem;
    overflow: auto;
  }
  @media (max-width: 40rem) {
    li {
      grid-template-columns: minmax(0, 1fr) !important;
      gap: 0.2rem !important;
    }
  }
  li {
    display: grid;
    grid-template-columns: minmax(12rem, 20rem) 7rem 1fr;
    gap: 0.75rem;
    padding: 0.4rem 1rem;
    align-items: start;
    border-bottom: 1px solid color-mix(in oklab, var(--line) 60%, transparent);
  }
  li b {
    overflow-wrap: anywhere;
  }
  .word {
    font-weight: 550;
  }
  [data-state='taken'] .word {
    color: var(--good);
  }
  [data-state='refused'] .word {
    color: var(--bad);
  }
  [data-state='sending'] .word,
  [data-state='checking'] .word {
    color: var(--now);
  }
  .detail {
    display: grid;
    gap: 0.1rem;
  }
</style>
