<script lang="ts">
  import type { Delivery, Outcome, RolloutSummary, Standing, Transfer } from '@barrow/core';

  type Word =
    Standing | Outcome | RolloutSummary['phase'] | Delivery['state'] | Transfer['state'] | 'stuck' | 'armed' | 'absent' | 'not ready';
  let { word, note = '' }: { word: Word; note?: string } = $props();

  // A state is told by its word and a shape; the colour only helps.
  const looks: Record<Word, { shape: string; tone: string }> = {
    'at-target': { shape: 'full', tone: 'good' },
    behind: { shape: 'half', tone: 'care' },
    ahead: { shape: 'half-right', tone: 'now' },
    blocked: { shape: 'square', tone: 'bad' },
    unknown: { shape: 'question', tone: 'quiet' },
    'no-target': { shape: 'ring', tone: 'quiet' },
    verified: { shape: 'tick', tone: 'good' },
    recovered: { shape: 'turn', tone: 'now' },
    failed: { shape: 'cross', tone: 'bad' },
    withdrawn: { shape: 'dash', tone: 'quiet' },
    skipped: { shape: 'skip', tone: 'quiet' },
    'not-begun': { shape: 'ring', tone: 'care' },
    absent: { shape: 'ring', tone: 'care' },
    'not ready': { shape: 'ring', tone: 'care' },
    planned: { shape: 'ring', tone: 'quiet' },
    running: { shape: 'play', tone: 'now' },
    held: { shape: 'bars', tone: 'bad' },
    stopping: { shape: 'square', tone: 'care' },
    ended: { shape: 'full', tone: 'quiet' },
    waiting: { shape: 'dot', tone: 'quiet' },
    awaited: { shape: 'ring', tone: 'now' },
    moving: { shape: 'play', tone: 'now' },
    brought: { shape: 'full', tone: 'quiet' },
    verifying: { shape: 'half', tone: 'now' },
    stopped: { shape: 'dash', tone: 'quiet' },
    done: { shape: 'full', tone: 'good' },
    broken: { shape: 'cross', tone: 'bad' },
    refused: { shape: 'square', tone: 'care' },
    stuck: { shape: 'bars', tone: 'bad' },
    armed: { shape: 'bolt', tone: 'care' },
  };
  const look = $derived(looks[word]);
</script>

<span class="state" style:--tone="var(--{look.tone})" title={note || undefined}>
  <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
    {#if look.shape === 'full'}<circle cx="6" cy="6" r="4.5" fill="currentColor" />
    {:else if look.shape === 'bolt'}<path d="M7 0.8 2.6 7h2.9L4.6 11.2 9.4 5H6.4z" fill="currentColor" />
    {:else if look.shape === 'half'}<circle cx="6" cy="6" r="4.2" class="thin" /><path
        d="M6 1.8a4.2 4.2 0 0 0 0 8.4z"
        fill="currentColor"
      />
    {:else if look.shape === 'half-right'}<circle cx="6" cy="6" r="4.2" class="thin" /><path
        d="M6 1.8a4.2 4.2 0 0 1 0 8.4z"
        fill="currentColor"
      />
    {:else if look.shape === 'square'}<rect x="1.8" y="1.8" width="8.4" height="8.4" fill="currentColor" />
    {:else if look.shape === 'ring'}<circle cx="6" cy="6" r="4.2" class="thin" />
    {:else if look.shape === 'dot'}<circle cx="6" cy="6" r="1.8" fill="currentColor" />
    {:else if look.shape === 'question'}<path d="M3.8 4.2a2.2 2.2 0 1 1 3 2c-.6.3-.8.6-.8 1.3M6 9.6v.2" class="thin" />
    {:else if look.shape === 'tick'}<path d="M1.8 6.4l2.8 2.8 5.6-6.2" class="thin" style="stroke-width:2" />
    {:else if look.shape === 'cross'}<path d="M2.4 2.4l7.2 7.2M9.6 2.4l-7.2 7.2" class="thin" style="stroke-width:2" />
    {:else if look.shape === 'turn'}<path d="M2.2 6a3.8 3.8 0 1 0 1.2-2.8M3.2 1v2.4h2.4" class="thin" />
    {:else if look.shape === 'dash'}<path d="M2 6h8" class="thin" style="stroke-width:2" />
    {:else if look.shape === 'skip'}<path d="M2 2.5L5.5 6 2 9.5M6.5 2.5L10 6 6.5 9.5" class="thin" />
    {:else if look.shape === 'play'}<path d="M2.5 1.5l8 4.5-8 4.5z" fill="currentColor" />
    {:else if look.shape === 'bars'}<path d="M3.6 1.8v8.4M8.4 1.8v8.4" class="thin" style="stroke-width:2.4" />
    {/if}
  </svg>
  <span>{word}</span>
</span>

<style>
  .state {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    white-space: nowrap;
    color: var(--tone);
    font-weight: 550;
  }
  .thin {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.5;
    stroke-linecap: round;
    stroke-linejoin: round;
  }
</style>
