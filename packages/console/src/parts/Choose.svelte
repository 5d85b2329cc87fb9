<script lang="ts">
  /** The box by which one of a list is chosen, or in its heading all that are shown. */
  let {
    label,
    checked,
    some = false,
    ofAll = false,
    ontoggle,
  }: { label: string; checked: boolean; some?: boolean; ofAll?: boolean; ontoggle: (toHere: boolean) => void } = $props();
</script>

<input
  type="checkbox"
  class="checkbox"
  tabindex={ofAll ? undefined : -1}
  aria-label={label}
  {checked}
  indeterminate={some && !checked}
  onclick={(e) => ontoggle(e.shiftKey)}
/>

<style>
  input {
    display: block;
  }
</style>
