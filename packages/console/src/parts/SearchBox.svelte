<script lang="ts">
  import Search from '@lucide/svelte/icons/search';

  let { text = $bindable(), label, placeholder }: { text: string; label: string; placeholder: string } = $props();
</script>

<label class="search">
  <Search size={15} aria-hidden="true" />
  <input class="input" type="search" {placeholder} aria-label={label} bind:value={text} />
</label>

<style>
  .search {
    position: relative;
    display: flex;
    align-items: center;
  }
  .search :global(svg) {
    position: absolute;
    left: 0.6rem;
    color: var(--quiet);
  }
  input {
    padding-left: 2rem;
    width: 14rem;
    height: 2.125rem;
    background: var(--sheet);
  }
</style>
