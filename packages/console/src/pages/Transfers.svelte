<script lang="ts">
  import { octets } from '@barrow/client';
  import { duration, type Transfer } from '@barrow/core';
  import Cause from '../parts/Cause.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import Rate from '../parts/Rate.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, may } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';

  const most = 300;
  let claimed = $state.raw<Transfer | null>(null);
  let device = $state('');

  // Many events may come between two pictures; they are taken together.
  const waiting = new Map<string, Transfer>();
  let pending: ReturnType<typeof setTimeout> | undefined;
  const loaded = new Loaded(
    () => client().transfers(most),
    [],
    (event) => {
      if (event.kind === 'transfer') {
        waiting.set(event.transfer.id, event.transfer);
        pending ??= setTimeout(take, 150);
      }
      return false;
    },
  );
  const all = $derived(loaded.value);
  function take() {
    pending = undefined;
    const known = new Set((all ?? []).map((t) => t.id));
    const fresh = [...waiting.values()].filter((t) => !known.has(t.id)).reverse();
    loaded.value = [...fresh, ...(all ?? []).map((t) => waiting.get(t.id) ?? t)].slice(0, most);
    waiting.clear();
  }
  const now = $derived((all ?? []).filter((t) => t.endedAt === null));
  const past = $derived((all ?? []).filter((t) => t.endedAt !== null && t.state !== 'refused'));
  const refused = $derived((all ?? []).filter((t) => t.state === 'refused'));
  const stuck = $derived(now.filter((t) => t.cause !== null).length);
  const percent = (t: Transfer) => (t.totalBytes > 0 ? Math.min(100, (t.bytes / t.totalBytes) * 100) : 0);
  const wordOf = (t: Transfer) => (t.endedAt === null && t.cause ? 'stuck' : t.state === 'done' && t.verified ? 'verified' : t.state);
</script>

<div class="head">
  <h1>Transfers</h1>
  {#if all}<span class="quiet"
      >{now.length === 0 ? 'nothing moves' : `${now.length} under way`}{#if stuck > 0}, <b class="bad">{stuck} stuck</b>{/if}</span
    >{/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if all === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if all && all.length === 0}
  <div class="sheet">
    <Empty title="Nothing has moved yet"
      >Whatever a device fetches, or is sent, is shown here while it moves: stage an image on the page <a class="anchor" href="/staging"
        >Staging</a
      >, or start a rollout.</Empty
    >
  </div>
{:else if all}
  {#if now.length > 0}
    <section class="sheet" aria-label="Under way">
      <table class="list">
        <thead
          ><tr
            ><th>Device</th><th>File</th><th>State</th><th class="wide">Moved</th><th>Rate</th><th class="num">Now</th><th class="num"
              >Left</th
            ><th class="num">Sent again</th></tr
          ></thead
        >
        <tbody>
          {#each now as t (t.id)}
            <tr class:plain={t.cause !== null}>
              <td><a class="name" href="/transfers/{t.id}">{t.deviceName ?? t.peer}</a></td>
              <td class="mono">{t.file}</td>
              <td><State word={wordOf(t)} /></td>
              <td class="wide"
                ><span class="meter-bar" data-stuck={t.cause !== null}><span style:width="{percent(t)}%"></span></span><span class="quiet"
                  >{t.state !== 'awaited'
                    ? `${octets(t.bytes)} of ${octets(t.totalBytes)}`
                    : t.protocol === 'tftp-write'
                      ? 'told to send a file'
                      : `told to fetch ${octets(t.totalBytes)}`}</span
                ></td
              >
              <td><Rate rates={t.rates} stuck={t.cause !== null} /></td>
              <td class="num">{t.state === 'moving' ? `${octets(t.rate)}/s` : '–'}</td>
              <td class="num">{t.secondsLeft === null ? '–' : duration(t.secondsLeft * 1000)}</td>
              <td class="num">{t.resent || '–'}</td>
            </tr>
            {#if t.cause}<tr><td></td><td colspan="7"><Cause cause={t.cause} evidence={t.evidence} /></td></tr>{/if}
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  {#if refused.length > 0}
    <h2>Asked, and not given</h2>
    <section class="sheet" aria-label="Asked, and not given">
      <table class="list">
        <thead><tr><th>When</th><th>From</th><th>Asked for</th><th>Why not</th><th></th></tr></thead>
        <tbody>
          {#each refused.slice(0, 20) as t (t.id)}
            <tr>
              <td class="quiet">{when(t.askedAt)}</td>
              <td class="mono">{t.deviceName ?? t.peer}</td>
              <td class="mono"><a class="name" href="/transfers/{t.id}">{t.file || '(not readable)'}</a></td>
              <td>{t.detail}</td>
              <td class="num"
                >{#if t.device === null && may('operator')}<button
                    class="link"
                    onclick={() => {
                      claimed = t;
                      device = '';
                    }}>That was this device…</button
                  >{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
      {#if refused.length > 20}<p class="quiet more">
          and {refused.length - 20} more: <code>barrow transfer list --state refused</code>
        </p>{/if}
    </section>
  {/if}
  {#if past.length > 0}
    <h2>Ended</h2>
    <section class="sheet" aria-label="Ended">
      <table class="list">
        <thead
          ><tr
            ><th>Device</th><th>File</th><th>State</th><th class="num">Moved</th><th>Rate</th><th class="num">On the whole</th><th
              class="num">Sent again</th
            ><th>When</th><th>What came of it</th></tr
          ></thead
        >
        <tbody>
          {#each past as t (t.id)}
            <tr>
              <td><a class="name" href="/transfers/{t.id}">{t.deviceName ?? t.peer}</a></td>
              <td class="mono">{t.file}</td>
              <td><State word={wordOf(t)} /></td>
              <td class="num">{octets(t.bytes)}</td>
              <td><Rate rates={t.rates} stuck={t.state === 'broken'} /></td>
              <td class="num">{octets(t.rate)}/s</td>
              <td class="num">{t.resent || '–'}</td>
              <td class="quiet">{when(t.askedAt)}</td>
              <td class="ended">{t.cause?.what ?? t.detail}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
{/if}
{#if claimed}
  <FormDialog
    title="That was this device"
    about="{claimed.peer} asked for {claimed.file}. The device that you name may fetch from that address from now on."
    word="It was"
    onclose={() => (claimed = null)}
    send={async () => {
      await client().claimTransfer(claimed!.id, device);
      await loaded.again();
    }}
  >
    <label class="field"><span>Device, by name, address or serial</span><input class="input" bind:value={device} required /></label>
  </FormDialog>
{/if}

<style>
  h2 {
    margin: 1.1rem 0 0.4rem;
  }
  .wide {
    width: 11rem;
  }
  .plain td {
    border-bottom-color: transparent;
  }
  .bad {
    color: var(--bad);
  }
  .link {
    color: var(--now);
    font-weight: 550;
    white-space: nowrap;
  }
  .more {
    padding: 0.4rem 0.75rem;
  }
  .ended {
    max-width: 22rem;
  }
  .field {
    display: grid;
    gap: 0.25rem;
  }
  /* Where there is room for it, a name stays whole, and a number with its unit. */
  @media (min-width: 64rem) {
    td .name,
    td.num {
      white-space: nowrap;
    }
  }
</style>
