<script lang="ts">
  /** Lines that come and go, each with its sign. */
  let { lines, cut = 0 }: { lines: readonly string[]; cut?: number } = $props();
  const all = $derived([...lines, ...(cut > 0 ? [`… and ${cut} lines more`] : [])]);
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<pre class="mono" tabindex="0" aria-label="What changes">{#each all as line, i (i)}<span
      data-sign={line[0] === '+' || line[0] === '-' ? line[0] : undefined}
      >{line}
</span>{/each}</pre>

<style>
  pre {
    margin-top: 0.4rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    max-height: 40vh;
    overflow: auto;
  }
  [data-sign='+'] {
    color: var(--good);
  }
  [data-sign='-'] {
    color: var(--bad);
  }
</style>
