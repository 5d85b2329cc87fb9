<script lang="ts">
  import Download from '@lucide/svelte/icons/download';
  import { heldText, neverCame, octets, wayOf } from '@barrow/client';
  import { duration } from '@barrow/core';
  import Cause from '../parts/Cause.svelte';
  import Empty from '../parts/Empty.svelte';
  import Rate from '../parts/Rate.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { saveAs } from '../lib/save.js';
  import { client, failureOf, may } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';
  import { place } from '../lib/place.js';

  const id = $derived(place.params['id'] ?? '');
  const loaded = new Loaded(
    () => client().transfer(id),
    [],
    (event) => event.kind === 'transfer' && event.transfer.id === id,
  );
  // Of another one nothing is shown until its own is there.
  const story = $derived(loaded.value?.id === id ? loaded.value : null);
  async function save() {
    try {
      const packets = await client().packets(id);
      saveAs(`transfer-${id}.pcapng`, new Blob([packets as Uint8Array<ArrayBuffer>], { type: 'application/vnd.tcpdump.pcap' }));
    } catch (error) {
      loaded.failure = failureOf(error);
    }
  }
  async function stop() {
    try {
      await client().stopTransfer(id);
      await loaded.again();
    } catch (error) {
      loaded.failure = failureOf(error);
    }
  }
  const title = $derived.by(() => {
    if (story === null) return 'Transfer';
    const [file, device] = [story.file || 'A request', story.deviceName ?? story.peer];
    return story.protocol === 'tftp-write' ? `${device} → ${file}` : `${file} → ${device}`;
  });
  const word = $derived(
    story === null
      ? 'awaited'
      : story.endedAt === null && story.cause
        ? 'stuck'
        : story.state === 'done' && story.verified
          ? 'verified'
          : story.state,
  );
  const asked = $derived(
    Object.entries(story?.askedOptions ?? {})
      .map(([name, value]) => `${name} ${value}`)
      .join(', '),
  );
  const facts = $derived.by((): [string, string][] => {
    if (!story) return [];
    const t = story;
    return [
      ['Way', wayOf(t)],
      ['Other end', t.peer],
      [neverCame(t) ? 'Awaited' : 'Asked', `${when(t.askedAt)}${asked ? `, with ${asked}` : ''}`],
      ...(t.blockSize ? [['Agreed', `blocks of ${t.blockSize} octets, ${t.windowSize} in a window`] as [string, string]] : []),
      ['Moved', t.bytes === 0 ? 'nothing' : `${octets(t.bytes)} of ${octets(t.totalBytes)}`],
      ...(t.endedAt === null && t.secondsLeft !== null ? [['Left', duration(t.secondsLeft * 1000)] as [string, string]] : []),
      ...(t.blockSize ? [['Sent again', t.resent === 0 ? 'nothing' : `${t.resent} blocks`] as [string, string]] : []),
      ...(t.protocol === 'tftp-write' ? [] : [['On the device', heldText(t)] as [string, string]]),
      ['Ended', t.endedAt === null ? 'not yet' : `${when(t.endedAt)}: ${t.detail ?? ''}`],
    ];
  });
</script>

<div class="head">
  <h1>{title}</h1>
  {#if story}<State {word} />{/if}
  <span class="grow"></span>
  {#if story?.state === 'moving' && may('operator')}<button class="btn preset-outlined-surface-300-700" onclick={stop}>Stop it</button>{/if}
  {#if story && story.packets.length > 0}<button class="btn preset-outlined-surface-300-700" onclick={save}
      ><Download size={16} aria-hidden="true" />Packets as pcapng</button
    >{/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if story === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if story}
  {#if story.findings.length > 0}
    <section class="sheet found" aria-label="What was found">
      {#each story.findings as f, nth (nth)}<Cause cause={f.cause} evidence={f.evidence} />{/each}
    </section>
  {/if}
  <div class="two">
    <section class="sheet facts" aria-label="Facts">
      <dl>
        {#each facts as [name, value] (name)}<dt>{name}</dt>
          <dd>{value}</dd>{/each}
      </dl>
    </section>
    <section class="sheet chart" aria-label="Rate">
      <p class="quiet">
        {story.bytes === 0
          ? story.endedAt === null
            ? 'Nothing has moved yet.'
            : 'Nothing moved.'
          : `At most ${octets(Math.max(...story.rates))}/s, on the whole ${octets(story.rate)}/s`}
      </p>
      {#if story.bytes > 0}<Rate rates={story.rates} width={420} height={96} large stuck={word === 'stuck' || word === 'broken'} />{/if}
    </section>
  </div>
  {#if story.packets.length > 0}
    <h2>Packets <span class="quiet">the first twenty and the last two hundred</span></h2>
    <section class="sheet packets" aria-label="Packets">
      <table class="list">
        <thead><tr><th class="num">Seconds</th><th>From</th><th class="num">Octets</th><th>Says</th></tr></thead>
        <tbody>
          {#each story.packets as p, i (i)}
            {#if i === 20 && story.packetsLeftOut > 0}
              <tr><td></td><td colspan="3" class="quiet">⋮ {story.packetsLeftOut} more passed here</td></tr>
            {/if}
            <tr>
              <td class="num mono">{(p.afterMs / 1000).toFixed(6)}</td>
              <td>{p.from === 'barrow' ? 'Barrow →' : '← device'}</td>
              <td class="num mono">{p.octets}</td>
              <td class="mono" class:bad={p.says.startsWith('error')}>{p.says}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  {#if story.around.length > 0}
    <h2>Around it <span class="quiet">the same device, address or file, ten minutes before and after</span></h2>
    <section class="sheet">
      <table class="list">
        <tbody>
          {#each story.around as t (t.id)}
            <tr>
              <td class="quiet">{when(t.askedAt)}</td>
              <td><a class="name" href="/transfers/{t.id}">{t.deviceName ?? t.peer}</a></td>
              <td class="mono">{t.file}</td>
              <td><State word={t.state} /></td>
              <td>{t.cause?.what ?? t.detail}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
{/if}

<style>
  h1 {
    overflow-wrap: anywhere;
  }
  h2 {
    margin: 1.1rem 0 0.4rem;
  }
  h2 .quiet {
    font-weight: 400;
    font-size: 0.875rem;
  }
  .found {
    display: grid;
    gap: 0.8rem;
    padding: 0.8rem 1rem;
    margin-bottom: 0.75rem;
  }
  .two {
    display: grid;
    grid-template-columns: minmax(24rem, 3fr) minmax(0, 2fr);
    gap: 0.75rem;
  }
  .facts,
  .chart {
    padding: 0.7rem 1rem;
  }
  .chart {
    display: grid;
    align-content: space-between;
    gap: 0.5rem;
  }
  dl {
    display: grid;
    grid-template-columns: auto 1fr;
    gap: 0.25rem 1.1rem;
  }
  dt {
    color: var(--quiet);
  }
  dd {
    overflow-wrap: anywhere;
  }
  .packets {
    max-height: 26rem;
    overflow: auto;
  }
  .bad {
    color: var(--bad);
  }
</style>
