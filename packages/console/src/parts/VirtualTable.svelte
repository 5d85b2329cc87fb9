<script lang="ts" generics="T">
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import type { Snippet } from 'svelte';
  import { get } from 'svelte/store';

  let {
    rows,
    columns,
    maxHeight,
    head,
    row,
  }: { rows: readonly T[]; columns: number; maxHeight: string; head: Snippet; row: Snippet<[T]> } = $props();

  // Only the rows in view are in the page, so that ten thousand scroll like ten.
  const rowHeight = 33;
  let scroller = $state<HTMLElement | null>(null);
  const virtualizer = createVirtualizer<HTMLElement, HTMLTableRowElement>({
    count: 0,
    getScrollElement: () => scroller,
    estimateSize: () => rowHeight,
    overscan: 12,
    // Before the list is measured a screenful is drawn.
    initialRect: { width: 1200, height: 700 },
  });
  $effect(() => {
    get(virtualizer).setOptions({ count: rows.length, getScrollElement: () => scroller });
  });
  const inView = $derived($virtualizer.getVirtualItems().filter((v) => v.index < rows.length));
  const above = $derived(inView[0]?.start ?? 0);
  const below = $derived(Math.max(0, rows.length * rowHeight - (inView.at(-1)?.end ?? 0)));
</script>

<div class="sheet scroll" bind:this={scroller} style:max-height={maxHeight}>
  <table class="list" aria-rowcount={rows.length}>
    <thead>{@render head()}</thead>
    <tbody>
      {#if above > 0}<tr aria-hidden="true"><td style:height="{above}px" colspan={columns}></td></tr>{/if}
      {#each inView as item (item.key)}
        <tr>{@render row(rows[item.index]!)}</tr>
      {/each}
      {#if below > 0}<tr aria-hidden="true"><td style:height="{below}px" colspan={columns}></td></tr>{/if}
    </tbody>
  </table>
</div>

<style>
  .scroll {
    overflow: auto;
  }
  .scroll :global(td) {
    white-space: nowrap;
    height: 33px;
    padding-block: 0;
  }
</style>
