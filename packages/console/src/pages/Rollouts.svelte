<script lang="ts">
  import FileUp from '@lucide/svelte/icons/file-up';
  import Empty from '../parts/Empty.svelte';
  import Share from '../parts/Share.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { goTo } from '../lib/place.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { totalsOf, when } from '../lib/format.js';

  const loaded = new Loaded(
    () => client().rollouts(),
    ['rollouts'],
    (event) => event.kind === 'journal',
  );
  const rollouts = $derived(loaded.value);
  let picker = $state<HTMLInputElement>();
  let refused = $state.raw<Failure | null>(null);
  /** What a file of a plan says is planned anew; what is otherwise stands in its remarks. */
  async function planFrom(event: Event & { currentTarget: HTMLInputElement }) {
    const input = event.currentTarget;
    const file = input.files?.[0];
    if (!file) return;
    refused = null;
    try {
      const made = await client().planFromFile(JSON.parse(await file.text()) as Parameters<ReturnType<typeof client>['planFromFile']>[0]);
      goTo(`/rollouts/${made.id}`);
    } catch (error) {
      refused =
        error instanceof SyntaxError
          ? {
              what: 'The plan was not read',
              why: `${file.name} is no JSON: ${error.message}.`,
              next: 'Give a file that a plan was kept as.',
            }
          : failureOf(error);
    }
    input.value = '';
  }
</script>

<div class="head">
  <h1>Rollouts</h1>
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={() => picker?.click()}
      ><FileUp size={15} aria-hidden="true" />Plan from a file</button
    >
    <input bind:this={picker} type="file" accept=".json" hidden aria-label="File of a plan" onchange={planFrom} />
  {/if}
</div>
{#if refused}<Trouble failure={refused} />{/if}
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
  .head {
    display: flex;
    align-items: center;
    flex-wrap: wrap;
    gap: 0.75rem;
    margin-bottom: 0.75rem;
  }
  .grow {
    flex: 1;
  }
  h1 {
    font-size: 1.25rem;
    font-weight: 650;
  }
  .wide {
    width: 14rem;
  }
</style>
