<script lang="ts">
  import { auditText, type DeedView } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { inAddress } from '../lib/address.js';
  import { when } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, failureOf } from '../lib/session.svelte.js';

  const who = inAddress('who');
  const loaded = new Loaded(() => client().deeds(who.value === '' ? {} : { who: who.value }), []);
  /** Those before the ones that were loaded first. */
  let older = $state.raw<readonly DeedView[]>([]);
  let more = $state<boolean | null>(null);
  const deeds = $derived([...(loaded.value?.items ?? []), ...older]);
  const isMore = $derived(more ?? loaded.value?.more ?? false);

  async function earlier() {
    try {
      const found = await client().deeds({ ...(who.value === '' ? {} : { who: who.value }), before: deeds.at(-1)!.id });
      older = [...older, ...found.items];
      more = found.more;
    } catch (error) {
      loaded.failure = failureOf(error);
    }
  }
  const only = (name: string) => {
    who.value = name;
    older = [];
    more = null;
    void loaded.again();
  };
</script>

<div class="head">
  <h1>Audit log</h1>
  <span class="quiet">Who changed what, from what to what, and which secrets were shown.</span>
  {#if who.value !== ''}<span>Only {who.value}. <button class="anchor" onclick={() => only('')}>Show all</button></span>{/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if loaded.value === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if loaded.value && deeds.length === 0}
  <div class="sheet"><Empty title="Nobody has done anything yet">What is changed from now on stands here, with who did it.</Empty></div>
{:else if loaded.value}
  <div class="sheet">
    <table class="list">
      <thead><tr><th>At</th><th>Who</th><th>What</th><th>Of</th><th>Change</th></tr></thead>
      <tbody>
        {#each deeds as d (d.id)}
          <tr title={d.path}>
            <td class="quiet">{when(d.at)}</td>
            <td class="who"><button class="anchor" onclick={() => only(d.who)}>{d.who}</button><br /><span class="quiet">{d.role}</span></td
            >
            <td>{d.what}</td>
            <td>{d.subject ?? ''}</td>
            <td class="change">{auditText(d.changes)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if isMore}<button class="btn preset-outlined-surface-300-700 earlier" onclick={earlier}>Earlier ones</button>{/if}
{/if}

<style>
  .who,
  .who button {
    white-space: nowrap;
    text-align: left;
  }
  .change {
    overflow-wrap: anywhere;
  }
  .earlier {
    margin-top: 0.75rem;
  }
</style>
