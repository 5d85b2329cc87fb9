<script lang="ts" generics="T">
  import { createVirtualizer } from '@tanstack/svelte-virtual';
  import { tick, type Snippet } from 'svelte';
  import { get } from 'svelte/store';
  import { roving } from '../lib/roving.js';
  import type { Rows } from '../lib/rows.js';

  let {
    rows,
    label,
    columns,
    maxHeight,
    head,
    row,
    onopen,
    ontoggle,
    isChosen,
  }: {
    /** An array, or what is here of a longer list. */
    rows: Rows<T>;
    label: string;
    columns: number;
    maxHeight: string;
    head: Snippet;
    row: Snippet<[T, number]>;
    /** Enter on a row. */
    onopen?: (row: T) => void;
    /** Space on a row, or with Shift from the one before to here. */
    ontoggle?: (row: T, toHere: boolean, index: number) => void;
    isChosen?: (row: T) => boolean;
  } = $props();

  // Only the rows in view are in the page, so that ten thousand scroll like ten.
  const rowHeight = 33;
  let scroller = $state<HTMLElement | null>(null);
  const virtualizer = createVirtualizer<HTMLElement, HTMLTableRowElement>({
    count: 0,
    getScrollElement: () => scroller,
    estimateSize: () => rowHeight,
    overscan: 5,
    // Before the list is measured a screenful is drawn.
    initialRect: { width: 1200, height: 700 },
  });
  $effect(() => {
    get(virtualizer).setOptions({ count: rows.length, getScrollElement: () => scroller });
  });
  const inView = $derived($virtualizer.getVirtualItems().filter((v) => v.index < rows.length));
  $effect(() => {
    const [first, last] = [inView[0], inView.at(-1)];
    if (first && last) rows.inView?.(first.index, last.index + 1);
  });
  const above = $derived(inView[0]?.start ?? 0);
  const below = $derived(Math.max(0, rows.length * rowHeight - (inView.at(-1)?.end ?? 0)));

  /** The one row that Tab reaches; the others are reached from it. */
  let at = $state(0);
  const reached = $derived(Math.min(at, Math.max(0, rows.length - 1)));
  const page = (): number => Math.max(1, Math.floor((scroller?.clientHeight ?? rowHeight) / rowHeight) - 2);

  async function keys(event: KeyboardEvent) {
    const tr = event.target as HTMLElement;
    if (tr.tagName !== 'TR' || event.altKey || event.ctrlKey || event.metaKey) return;
    const here = Number(tr.dataset['index']);
    const one = rows.at(here);
    if (event.key === 'Enter' && onopen && one !== undefined) onopen(one);
    else if (event.key === ' ' && ontoggle && one !== undefined) ontoggle(one, event.shiftKey, here);
    else {
      const next = {
        ArrowDown: here + 1,
        ArrowUp: here - 1,
        Home: 0,
        End: rows.length - 1,
        PageDown: here + page(),
        PageUp: here - page(),
      }[event.key];
      if (next === undefined) return;
      at = Math.max(0, Math.min(rows.length - 1, next));
      get(virtualizer).scrollToIndex(at);
      await tick();
      const focus = (): void => scroller?.querySelector<HTMLElement>(`tr[data-index="${at}"]`)?.focus();
      focus();
      // One that was out of view is drawn with the next frame.
      if (!scroller?.contains(document.activeElement) || document.activeElement?.getAttribute('data-index') !== String(at))
        requestAnimationFrame(focus);
    }
    event.preventDefault();
  }
</script>

<div class="sheet scroll" bind:this={scroller} style:max-height={maxHeight}>
  <table
    class="list"
    role="grid"
    tabindex="-1"
    aria-label={label}
    aria-rowcount={rows.length + 1}
    aria-multiselectable={ontoggle ? true : undefined}
    onkeydown={keys}
  >
    <thead use:roving>{@render head()}</thead>
    <tbody>
      {#if above > 0}<tr aria-hidden="true"><td style:height="{above}px" colspan={columns}></td></tr>{/if}
      {#each inView as item (item.key)}
        {@const one = rows.at(item.index)}
        <tr
          data-index={item.index}
          aria-rowindex={item.index + 2}
          aria-selected={isChosen && one !== undefined ? isChosen(one) : undefined}
          tabindex={item.index === reached ? 0 : -1}
          onfocus={() => (at = item.index)}
          >{#if one === undefined}<td colspan={columns} class="quiet">…</td>{:else}{@render row(one, item.index)}{/if}</tr
        >
      {/each}
      {#if below > 0}<tr aria-hidden="true"><td style:height="{below}px" colspan={columns}></td></tr>{/if}
    </tbody>
  </table>
</div>

<style>
  .scroll {
    overflow: auto;
    container-type: inline-size;
  }
  :global(.sheet) > .scroll {
    border: 0;
    box-shadow: none;
  }
  .scroll :global(td) {
    white-space: nowrap;
    height: 33px;
    padding-block: 0;
  }
  /* What is long is cut, and told whole by its title. */
  .scroll :global(td.cut) {
    width: 40%;
    max-width: 0;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  tr:focus-visible {
    outline-offset: -2px;
  }
  tr[aria-selected='true'] {
    background: color-mix(in oklab, var(--now) 11%, transparent);
  }
</style>
