<script lang="ts">
  import type { Snippet } from 'svelte';

  /** A secret that is shown now and never again. */
  let { secret, ondone, children }: { secret: string; ondone: () => void; children: Snippet } = $props();
</script>

<div class="sheet made" role="status">
  <p>{@render children()} It is shown this once:</p>
  <p class="mono">{secret}</p>
  <button class="anchor" onclick={ondone}>I have it</button>
</div>

<style>
  .made {
    display: grid;
    gap: 0.3rem;
    justify-items: start;
    padding: 0.8rem 1rem;
    margin-bottom: 0.75rem;
    border-left: 3px solid var(--good);
  }
  .mono {
    overflow-wrap: anywhere;
    user-select: all;
  }
</style>
