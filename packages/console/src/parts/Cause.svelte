<script lang="ts">
  import Words from './Words.svelte';

  let { cause, evidence }: { cause: { readonly what: string; readonly next: string; readonly code: string }; evidence: readonly string[] } =
    $props();
</script>

<div class="cause">
  <strong>{cause.what}</strong>
  {#each evidence as seen, i (i)}<p><Words text={seen} /></p>{/each}
  <p class="quiet">What to do: <Words text={cause.next} /></p>
</div>

<style>
  .cause {
    border-left: 3px solid var(--bad);
    padding: 0.1rem 0 0.1rem 0.75rem;
    max-width: 62rem;
  }
  p {
    overflow-wrap: anywhere;
  }
</style>
