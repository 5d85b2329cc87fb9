<script lang="ts">
  import ArrowRight from '@lucide/svelte/icons/arrow-right';
  import type { PathStepView } from '@barrow/core';

  let { path }: { path: readonly PathStepView[] } = $props();
  const notesOf = (step: PathStepView): string[] => [
    ...(step.resets.length > 0 ? [`resets ${step.resets.join(' and ')}`] : []),
    ...step.notices,
  ];
</script>

<!-- In one line: what the partner takes first, then the device's own images. -->
<span class="path">
  {#each path as step, i (i)}
    {#if i > 0}<ArrowRight size={13} aria-label="then" />{/if}
    <span class="step" title={notesOf(step).join('; ') || undefined}>
      {#if step.on}<span class="first">{step.on.name} first:</span>{/if}
      <a class="mono" href="/images/{step.sha256}">{step.file}</a>{#if step.component === 'boot-loader'}<span class="first">
          loader</span
        >{/if}
      {#if step.resets.length > 0 && !step.on}<span class="care">resets {step.resets.join(', ')}</span>{/if}
    </span>
  {/each}
</span>

<style>
  .path {
    display: inline-flex;
    align-items: center;
    gap: 0.35rem;
    flex-wrap: wrap;
  }
  .path :global(svg) {
    color: var(--quiet);
  }
  .step {
    white-space: nowrap;
  }
  .first {
    color: var(--quiet);
  }
  a {
    color: var(--ink);
  }
  .care {
    color: var(--care);
    font-size: 0.8125rem;
  }
</style>
