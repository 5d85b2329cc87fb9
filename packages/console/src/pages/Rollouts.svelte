<script lang="ts">
  import Empty from '../parts/Empty.svelte';
  import Share from '../parts/Share.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client } from '../lib/session.svelte.js';
  import { totalsOf, when } from '../lib/format.js';

  const loaded = new Loaded(
    () => client().rollouts(),
    ['rollouts'],
    (event) => event.kind === 'journal',
  );
  const rollouts = $derived(loaded.value);
</script>

<h1>Rollouts</h1>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if rollouts === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if rollouts && rollouts.length === 0}
  <div class="sheet">
    <Empty title="No rollouts yet"
      >Choose devices and plan one: <a class="anchor" href="/?standing=behind">those that are behind</a>. Or
      <code>barrow rollout plan</code>.</Empty
    >
  </div>
{:else if rollouts}
  <div class="sheet">
    <table class="list">
      <thead
        ><tr><th>Rollout</th><th>Phase</th><th>Result</th><th class="wide"></th><th>Planned</th><th>Started by</th><th>Ended</th></tr
        ></thead
      >
      <tbody>
        {#each rollouts as r (r.id)}
          <tr>
            <td><a class="name" href="/rollouts/{r.id}">{r.name}</a></td>
            <td><State word={r.phase} note={r.heldBecause ?? ''} /></td>
            <td>{totalsOf(r)}</td>
            <td class="wide"><Share totals={r.totals} devices={r.devices} /></td>
            <td class="quiet">{when(r.createdAt)}</td>
            <td>{r.startedBy ?? '–'}</td>
            <td class="quiet">{when(r.endedAt)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}

<style>
  h1 {
    font-size: 1.25rem;
    font-weight: 650;
    margin-bottom: 0.75rem;
  }
  .wide {
    width: 14rem;
  }
</style>
