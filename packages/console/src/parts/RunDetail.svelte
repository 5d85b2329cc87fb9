<script lang="ts">
  import type { RunDetail } from '@barrow/core';
  import { mendedText } from '@barrow/client';
  import Trouble from './Trouble.svelte';
  import Words from './Words.svelte';
  import { hear } from '../lib/live.svelte.js';
  import { client, failureOf, type Failure } from '../lib/session.svelte.js';

  let { rollout, run }: { rollout: string; run: string } = $props();
  let detail = $state.raw<RunDetail | null>(null);
  let failure = $state<Failure | null>(null);

  async function load() {
    try {
      detail = await client().run(rollout, run);
    } catch (error) {
      failure = failureOf(error);
    }
  }
  $effect(() => {
    void load();
    return hear((event) => {
      if (event.kind === 'journal' && event.entry.rollout === rollout && 'run' in event.entry.event && event.entry.event.run === run)
        void load();
    }, load);
  });

  const time = (at: number) => new Date(at).toTimeString().slice(0, 8);
</script>

<div class="detail">
  {#if failure}<Trouble {failure} />{/if}
  {#if detail}
    <p class="to"><a class="anchor" href="/devices/{detail.run.device}">The page of {detail.run.name}</a></p>
    {#if detail.run.cause}
      <div class="cause">
        <p><strong>{detail.run.cause.what}</strong> <span class="mono quiet">{detail.run.cause.code}</span></p>
        {#if detail.run.detail}<pre class="mono">{detail.run.detail}</pre>{/if}
        {#each detail.run.tried as t, i (i)}
          <p>Then {t.text}, and that failed too: {t.cause.what} <span class="mono quiet">{t.cause.code}, at {t.step}</span></p>
          <pre class="mono">{t.detail}</pre>
        {/each}
        {#if detail.run.outcome === 'recovered'}<p>
            {detail.run.mended.slice(-1).map(mendedText).join('')} It is good again on {detail.run.legs[detail.run.leg]?.from}, and not at
            its target.
          </p>{/if}
        {#if detail.run.takeBack}<p>It can be {detail.run.takeBack}.</p>{/if}
        {#if detail.run.cutsOff}<p>
            Its power can be cut where it is fed, if you accept that {detail.run.cutsOff.join(', ')}
            {detail.run.cutsOff.length === 1 ? 'loses' : 'lose'} power with it.
          </p>{/if}
        <p class="next"><b>Look next:</b> <Words text={detail.run.cause.next} /></p>
      </div>
    {:else}
      {#if detail.run.detail}<p>{detail.run.detail}</p>{/if}
      {#each detail.run.mended as m, i (i)}
        <div class="mended">
          <p><strong>{m.cause.what}</strong> <span class="mono quiet">{m.cause.code}</span></p>
          {#if m.detail}<pre class="mono">{m.detail}</pre>{/if}
          <p>{mendedText(m)}</p>
        </div>
      {/each}
    {/if}
    <div class="columns">
      <div>
        <h4>What happened</h4>
        <ol>
          {#each detail.events as { seq, event } (seq)}
            <li>
              <span class="mono quiet">{time(event.at)}</span>
              {event.kind.replaceAll('-', ' ')}{'step' in event ? `: ${event.step}` : ''}{'cause' in event ? ` (${event.cause})` : ''}
            </li>
          {/each}
        </ol>
      </div>
      <div>
        {#if detail.checks.length > 0}
          <h4>Checks</h4>
          <table class="list">
            <tbody>
              {#each detail.checks as check, nth (nth)}
                <tr>
                  <td>{check.result === 'passed' ? '✓' : '✕'} {check.name}</td>
                  <td class="mono">{check.before} → {check.after}</td>
                </tr>
                {#if check.evidence.length > 0}<tr
                    ><td colspan="2"><pre class="mono evidence" class:bad={check.result === 'failed'}>{check.evidence.join('\n')}</pre></td
                    ></tr
                  >{/if}
              {/each}
            </tbody>
          </table>
        {/if}
        {#if detail.conversations.length > 0}
          <h4>Conversations, secrets hidden</h4>
          {#each detail.conversations as talk, index (index)}
            <details>
              <summary>{talk.step}</summary>
              <pre class="mono talk">{talk.text}</pre>
            </details>
          {/each}
        {/if}
      </div>
    </div>
  {:else if !failure}<p class="quiet">Asking…</p>{/if}
</div>

<style>
  .detail {
    padding: 0.6rem 0.9rem 0.9rem;
    background: var(--ground);
  }
  .next {
    margin-top: 0.2rem;
  }
  .cause {
    border-left: 4px solid var(--bad);
    padding-left: 0.8rem;
    margin-bottom: 0.8rem;
  }
  .mended {
    border-left: 4px solid var(--care);
    padding-left: 0.8rem;
    margin-bottom: 0.8rem;
  }
  pre {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .to {
    margin-bottom: 0.4rem;
  }
  .columns {
    display: grid;
    grid-template-columns: minmax(15rem, 1fr) 2fr;
    gap: 1.5rem;
  }
  h4 {
    font-weight: 650;
    margin: 0.2rem 0;
  }
  .evidence {
    color: var(--quiet);
    font-size: 0.8rem;
  }
  .evidence.bad {
    color: var(--bad);
  }
  .talk {
    max-height: 20rem;
    overflow: auto;
    font-size: 0.8rem;
    padding: 0.4rem 0.6rem;
    background: var(--sheet);
  }
  summary {
    cursor: pointer;
  }
</style>
