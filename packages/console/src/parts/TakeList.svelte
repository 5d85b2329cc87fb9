<script lang="ts">
  import type { ImportResult } from '@barrow/core';
  import FormDialog from './FormDialog.svelte';
  import { count } from '../lib/format.js';
  import { client } from '../lib/session.svelte.js';

  /** A list of devices is taken in, after it was shown what that would change. */
  let { onclose }: { onclose: () => void } = $props();

  let text = $state('');
  let form = $state<'csv' | 'json'>('csv');
  let shown = $state.raw<ImportResult | null>(null);
  const most = 12;
  const sums = $derived.by(() => {
    const of = (what: string): number => (shown?.rows ?? []).filter((r) => r.what === what).length;
    return `${count(of('new'), 'device')} new, ${of('changed')} changed, ${of('same')} as they are, ${of('refused')} refused`;
  });
  // What is refused is read first, and what is as it was not at all.
  const lines = $derived(
    [...(shown?.rows ?? [])].filter((r) => r.what !== 'same').sort((a, b) => Number(b.what === 'refused') - Number(a.what === 'refused')),
  );
  async function read(files: FileList | null) {
    const file = files?.[0];
    shown = null;
    if (!file) return;
    text = await file.text();
    form = /\.json$/i.test(file.name) ? 'json' : 'csv';
  }
  const send = async () => {
    if (shown === null) {
      shown = await client().importDevices(form, text, true);
      // It stays open: this was only shown.
      throw new Shown();
    }
    await client().importDevices(form, text, false);
  };
  class Shown extends Error {}
</script>

<FormDialog
  title="Take a list in"
  about="CSV with a header line, or JSON, as “Save as CSV” writes it. A row finds its device by id, serial, MAC, address or name; what fits none is entered."
  word={shown === null ? 'Show what it would change' : 'Take it in'}
  stays={(error) => error instanceof Shown}
  {onclose}
  {send}
>
  <label class="label"
    ><span class="label-text">File</span><input
      class="input"
      type="file"
      accept=".csv,.json"
      required
      onchange={(e) => read(e.currentTarget.files)}
    /></label
  >
  {#if shown}
    <p role="status"><b>{sums}.</b></p>
    <ul>
      {#each lines.slice(0, most) as r (r.row)}
        <li><b>{r.name}</b> <span class:bad={r.what === 'refused'}>{r.what}</span>: {r.detail.join('; ')}</li>
      {/each}
      {#if lines.length > most}<li class="quiet">and {lines.length - most} more</li>{/if}
    </ul>
  {/if}
</FormDialog>

<style>
  ul {
    max-height: 16rem;
    overflow: auto;
    font-size: 0.875rem;
  }
  .bad {
    color: var(--bad);
  }
</style>
