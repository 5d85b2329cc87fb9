<script lang="ts">
  import TriangleAlert from '@lucide/svelte/icons/triangle-alert';
  import Words from './Words.svelte';
  import type { Failure } from '../lib/session.svelte.js';
  let { failure }: { failure: Failure } = $props();
</script>

<div class="sheet trouble" role="alert">
  <TriangleAlert size={18} aria-hidden="true" />
  <div>
    <strong>{failure.what}</strong>
    <p><Words text={failure.why} /></p>
    <p class="quiet"><Words text={failure.next} /></p>
  </div>
</div>

<style>
  .trouble {
    display: flex;
    gap: 0.75rem;
    padding: 0.75rem 1rem;
    border-left: 4px solid var(--bad);
    margin-bottom: 0.75rem;
  }
  .trouble :global(svg) {
    color: var(--bad);
    flex: none;
    margin-top: 0.15rem;
  }
</style>
