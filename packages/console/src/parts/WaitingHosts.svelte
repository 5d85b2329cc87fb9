<script lang="ts">
  import ShieldCheck from '@lucide/svelte/icons/shield-check';
  import type { ApprovalResult, WaitingHost } from '@barrow/core';
  import Trouble from './Trouble.svelte';
  import { hearChanges } from '../lib/live.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';

  /** Called with the networks of what was approved, when it shall be read at once. */
  let { onread }: { onread: (networks: string[]) => void } = $props();

  let hosts = $state.raw<WaitingHost[]>([]);
  let chosen = $state<string[]>([]);
  let left = $state.raw<ApprovalResult['left']>([]);
  let failure = $state<Failure | null>(null);

  async function load() {
    try {
      hosts = await client().waitingHosts();
      chosen = chosen.filter((id) => hosts.some((h) => h.device === id));
    } catch (error) {
      failure = failureOf(error);
    }
  }
  $effect(() => {
    void load();
    return hearChanges(['devices'], load);
  });
  const isAll = $derived(hosts.length > 0 && chosen.length === hosts.length);

  async function approve() {
    const sent = hosts.filter((h) => chosen.includes(h.device));
    try {
      failure = null;
      const done = await client().approveHosts(sent.map(({ device, address, hostKey, family }) => ({ device, address, hostKey, family })));
      left = done.left;
      chosen = [];
      await load();
      if (done.approved.length > 0) onread([...new Set(sent.filter((h) => done.approved.includes(h.name)).map((h) => h.network))]);
    } catch (error) {
      failure = failureOf(error);
    }
  }
</script>

{#if failure}<Trouble {failure} />{/if}
{#each left as l, nth (nth)}<p class="care left">{l.device} was not approved: {l.why}.</p>{/each}
{#if hosts.length > 0}
  <section class="sheet" aria-label="Waiting for approval">
    <div class="bar">
      <h2>{hosts.length === 1 ? '1 host waits' : `${hosts.length} hosts wait`} for approval</h2>
      <span class="quiet">Whoever answers a password login reads the password: none is sent before you know who it is.</span>
      <span class="grow"></span>
      {#if may('operator')}
        <button class="btn preset-filled-primary-600-400" disabled={chosen.length === 0} onclick={approve}
          ><ShieldCheck size={16} aria-hidden="true" />Approve {chosen.length === 0 ? 'those ticked' : chosen.length} and read {chosen.length ===
          1
            ? 'it'
            : 'them'}</button
        >
      {/if}
    </div>
    <div class="scroll">
      <table class="list">
        <thead
          ><tr
            ><th
              >{#if may('operator')}<input
                  class="checkbox"
                  type="checkbox"
                  aria-label="All"
                  checked={isAll}
                  onchange={() => (chosen = isAll ? [] : hosts.map((h) => h.device))}
                />{/if}</th
            ><th>Host</th><th>Address</th><th>Network</th><th>Looks like</th><th>SSH host key</th></tr
          ></thead
        >
        <tbody>
          {#each hosts as h (h.device)}
            <tr>
              <td
                >{#if may('operator')}<input
                    class="checkbox"
                    type="checkbox"
                    aria-label="Approve {h.name}"
                    value={h.device}
                    bind:group={chosen}
                  />{/if}</td
              >
              <td><a class="anchor" href="/devices/{h.device}">{h.name}</a></td>
              <td class="mono">{h.address}</td>
              <td>{h.network}</td>
              <td title={h.familyEvidence}>{h.family ?? 'nothing known'}</td>
              <td class="mono key">{h.hostKey ?? 'none: known by its address'}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}

<style>
  section {
    margin-bottom: 0.9rem;
  }
  .bar {
    display: flex;
    align-items: center;
    gap: 0.9rem;
    padding: 0.5rem 0.9rem;
  }
  h2 {
    font-weight: 650;
    white-space: nowrap;
  }
  .scroll {
    overflow: auto;
    max-height: 22rem;
  }
  td :global(.checkbox) {
    vertical-align: middle;
  }
  .key {
    font-size: 0.75rem;
  }
  .care {
    color: var(--care);
  }
  .left {
    margin-bottom: 0.6rem;
  }
</style>
