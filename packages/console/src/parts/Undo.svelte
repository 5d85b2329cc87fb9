<script lang="ts">
  import X from '@lucide/svelte/icons/x';
  import { undo } from '../lib/undo.svelte.js';
</script>

<!-- Always there, so that what comes into it is heard. -->
<div class="undo" role="status" class:there={undo.last !== null}>
  {#if undo.last}
    <span>{undo.last.words}</span>
    {#if undo.failure}<b class="bad">That is not taken back: {undo.failure.why}</b>
    {:else}<button class="btn preset-outlined-surface-300-700" disabled={undo.busy} onclick={() => undo.undo()}>Undo</button>{/if}
    <button class="icon" aria-label="Leave it so" title="Leave it so" onclick={() => undo.aside()}
      ><X size={15} aria-hidden="true" /></button
    >
  {/if}
</div>

<style>
  .undo.there {
    position: sticky;
    bottom: 0.5rem;
    z-index: 20;
    display: flex;
    align-items: center;
    gap: 0.75rem;
    width: fit-content;
    max-width: 100%;
    margin: 0.75rem auto 0;
    padding: 0.4rem 0.5rem 0.4rem 0.9rem;
    border: 1px solid var(--now);
    border-radius: 0.5rem;
    background: var(--sheet);
    box-shadow: 0 4px 16px rgb(0 0 0 / 0.18);
  }
  .bad {
    color: var(--bad);
  }
</style>
