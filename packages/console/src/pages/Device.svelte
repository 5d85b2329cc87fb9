<script lang="ts">
  import type { DeviceDetail } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { hear } from '../lib/live.svelte.js';
  import { client, failureOf, type Failure } from '../lib/session.svelte.js';
  import { duration, when } from '../lib/format.js';
  import { route } from '../router.js';

  let device = $state.raw<DeviceDetail | null>(null);
  let failure = $state<Failure | null>(null);
  const id = $derived((route.params as { id?: string }).id ?? '');

  async function load(asked: string) {
    try {
      const found = await client().device(asked);
      if (asked !== id) return;
      device = found;
      failure = null;
    } catch (error) {
      failure = failureOf(error);
    }
  }
  $effect(() => {
    const asked = id;
    void load(asked);
    return hear(
      (event) => {
        if (event.kind === 'changed' && ['devices', 'targets', 'images'].includes(event.what)) void load(asked);
      },
      () => void load(asked),
    );
  });

  const facts = $derived.by((): [string, string | null, boolean?][] => {
    if (!device) return [];
    return [
      ['Address', device.address, true],
      ['Site', `${device.site}, network ${device.network}`],
      ['Kind', device.kind],
      ['Maker, model', [device.maker, device.model].filter(Boolean).join(' ')],
      ['Hardware revision', device.hardwareRevision, true],
      ['Serial', device.serial, true],
      ['MAC', device.mac, true],
      ['Firmware', device.firmware, true],
      ['Boot loader', device.bootLoader, true],
      ['Up', device.upSince === null ? null : `about ${duration(Date.now() - Date.parse(device.upSince))}`],
      ['Family', device.family === null ? 'none fits' : device.family],
      ['Recognised by', device.familyEvidence],
      ['SSH host key', device.hostKey ?? 'not seen yet', true],
      ['First seen', when(device.firstSeen)],
      ['Last seen', when(device.lastSeen)],
    ];
  });
</script>

<p class="crumb"><a class="anchor" href="/">Devices</a></p>
{#if failure}<Trouble {failure} />{/if}
{#if device}
  <div class="head">
    <h1>{device.name}</h1>
    <State word={device.standing} />
    {#if device.target}<span class="quiet">target <span class="mono">{device.target}</span></span>{/if}
    {#if device.standingReason}<span class="quiet">{device.standingReason}</span>{/if}
    {#each device.path as step (step.sha256)}<span class="quiet">by <span class="mono">{step.file}</span></span>{/each}
    {#if device.rollout}<a class="anchor" href="/rollouts/{device.rollout}">in a rollout now</a>{/if}
  </div>
  <div class="columns">
    <section class="sheet" aria-label="Record">
      <h2>Record</h2>
      <dl>
        {#each facts as [word, value, isMono] (word)}<dt>{word}</dt>
          <dd class:mono={isMono}>{value || '–'}</dd>{/each}
      </dl>
    </section>
    <section class="sheet" aria-label="Observations">
      <h2>What it answered</h2>
      {#each device.observations as seen, index (seen.at + seen.probe)}
        <details open={index === 0}>
          <summary
            ><span>{when(seen.at)}</span> <b>{seen.probe}</b> <span class="mono quiet">{seen.address}</span>
            <span class="quiet">{Object.keys(seen.raw).length === 1 ? '1 raw answer' : `${Object.keys(seen.raw).length} raw answers`}</span
            ></summary
          >
          <table class="list">
            <tbody>
              {#each Object.entries(seen.raw).slice(0, 60) as [key, value] (key)}
                <tr
                  ><td class="mono quiet key">{key}</td><td class="mono value"
                    >{typeof value === 'string' ? value : JSON.stringify(value)}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        </details>
      {:else}
        <Empty title="Nothing yet">A discovery keeps every raw answer here.</Empty>
      {/each}
    </section>
  </div>
{:else if !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

<style>
  .crumb {
    margin-bottom: 0.25rem;
  }
  .head {
    display: flex;
    align-items: baseline;
    gap: 1rem;
    margin-bottom: 0.9rem;
    flex-wrap: wrap;
  }
  h1 {
    font-size: 1.25rem;
    font-weight: 650;
  }
  h2 {
    font-weight: 650;
    padding: 0.6rem 0.9rem;
    border-bottom: 1px solid var(--line);
  }
  .columns {
    display: grid;
    grid-template-columns: 26rem 1fr;
    gap: 1rem;
    align-items: start;
  }
  dl {
    display: grid;
    grid-template-columns: 8.5rem 1fr;
    gap: 0.3rem 0.75rem;
    padding: 0.75rem 0.9rem;
  }
  dt {
    color: var(--quiet);
  }
  dd {
    overflow-wrap: anywhere;
  }
  summary {
    padding: 0.45rem 0.9rem;
    cursor: pointer;
    display: flex;
    gap: 0.8rem;
    align-items: baseline;
  }
  td.key,
  td.value {
    vertical-align: top;
  }
  td.key {
    width: 1%;
    white-space: nowrap;
  }
  .value {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
</style>
