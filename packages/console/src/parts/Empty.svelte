<script lang="ts">
  import type { Snippet } from 'svelte';
  let { title, children }: { title: string; children: Snippet } = $props();
</script>

<div class="empty">
  <p class="title">{title}</p>
  <div class="quiet">{@render children()}</div>
</div>

<style>
  .empty {
    padding: 3rem 1.5rem;
    text-align: center;
  }
  .title {
    font-weight: 600;
    font-size: 1rem;
    margin-bottom: 0.25rem;
  }
  .empty :global(code) {
    font-family: var(--mono);
    background: var(--ground);
    padding: 0.1rem 0.35rem;
    border-radius: var(--radius-base);
  }
</style>
