<script lang="ts">
  import type { Standing } from '@barrow/core';

  let { standing, size }: { standing: Standing; size: number } = $props();
  const tones: Record<Standing, string> = {
    'at-target': 'good',
    behind: 'care',
    ahead: 'now',
    blocked: 'bad',
    unknown: 'quiet',
    'no-target': 'quiet',
  };
</script>

<!-- The same shapes as in State, small enough to stand in rows. -->
<svg viewBox="0 0 10 10" width={size} height={size} style:color="var(--{tones[standing]})" aria-hidden="true">
  {#if standing === 'at-target'}<circle cx="5" cy="5" r="4.2" fill="currentColor" />
  {:else if standing === 'behind'}<circle cx="5" cy="5" r="3.6" class="thin" /><path d="M5 1.4a3.6 3.6 0 0 0 0 7.2z" fill="currentColor" />
  {:else if standing === 'ahead'}<circle cx="5" cy="5" r="3.6" class="thin" /><path d="M5 1.4a3.6 3.6 0 0 1 0 7.2z" fill="currentColor" />
  {:else if standing === 'blocked'}<rect x="1.2" y="1.2" width="7.6" height="7.6" fill="currentColor" />
  {:else if standing === 'unknown'}<path d="M3.2 3.4a1.9 1.9 0 1 1 2.6 1.8c-.5.2-.7.5-.7 1M5.1 8.3v.2" class="thin" />
  {:else}<circle cx="5" cy="5" r="3.6" class="thin" />{/if}
</svg>

<style>
  svg {
    flex: none;
  }
  .thin {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.3;
    stroke-linecap: round;
  }
</style>
