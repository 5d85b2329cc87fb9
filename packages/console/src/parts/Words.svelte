<script lang="ts">
  let { text }: { text: string } = $props();
  // Every second piece stands between back-ticks: a command or an option.
  const pieces = $derived(text.split('`'));
</script>

{#each pieces as piece, index (index)}{#if index % 2 === 1}<code>{piece}</code>{:else}{piece}{/if}{/each}

<style>
  code {
    font-family: var(--mono);
    font-size: 0.93em;
    white-space: nowrap;
    background: var(--ground);
    padding: 0.05rem 0.3rem;
    border-radius: var(--radius-base);
  }
</style>
