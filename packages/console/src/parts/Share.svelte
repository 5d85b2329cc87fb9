<script lang="ts">
  import type { RolloutSummary } from '@barrow/core';
  import { totalWord } from '@barrow/client';
  let { totals, devices }: { totals: RolloutSummary['totals']; devices: number } = $props();

  const order = ['verified', 'recovered', 'failed', 'not-begun', 'skipped', 'withdrawn', 'under-way'] as const;
  const parts = $derived(order.map((key) => ({ key, n: totals[key] ?? 0 })).filter((part) => part.n > 0));
</script>

<!-- The words stand beside it; the bar only shows the proportion. -->
<div class="share" role="img" aria-label={parts.map((part) => `${part.n} ${totalWord(part.key)}`).join(', ') || 'nothing done yet'}>
  {#each parts as { key, n } (key)}<span data-part={key} style:flex-grow={n} title="{n} {totalWord(key)}"></span>{/each}
  <span data-part="rest" style:flex-grow={totals.waiting ?? 0}></span>
  {#if devices === 0}<span style:flex-grow={1}></span>{/if}
</div>

<style>
  .share {
    display: flex;
    height: 0.55rem;
    border-radius: 99px;
    overflow: hidden;
    background: var(--line);
    gap: 1px;
  }
  span {
    flex-basis: 0;
  }
  [data-part='verified'] {
    background: var(--good);
  }
  /* Good again, and not where it was to go. */
  [data-part='recovered'] {
    background: repeating-linear-gradient(45deg, var(--care) 0 3px, color-mix(in oklab, var(--care) 60%, var(--sheet)) 3px 6px);
  }
  [data-part='failed'] {
    background: repeating-linear-gradient(45deg, var(--bad) 0 3px, color-mix(in oklab, var(--bad) 70%, var(--sheet)) 3px 6px);
  }
  [data-part='not-begun'] {
    background: var(--care);
  }
  [data-part='under-way'] {
    background: var(--now);
  }
  [data-part='skipped'],
  [data-part='withdrawn'] {
    background: var(--quiet);
  }
</style>
