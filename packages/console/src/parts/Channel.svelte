<script lang="ts">
  import type { Image } from '@barrow/core';

  let { image }: { image: Pick<Image, 'channel' | 'withdrawn'> } = $props();
  const word = $derived(image.withdrawn ? 'withdrawn' : image.channel);
  const tones = { release: 'ink', transitional: 'now', candidate: 'care', beta: 'care', withdrawn: 'bad' };
</script>

<span class="channel" style:--tone="var(--{tones[word]})" title={image.withdrawn?.why}>
  <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
    {#if word === 'release'}<circle cx="6" cy="6" r="4" fill="currentColor" />
    {:else if word === 'transitional'}<path d="M2 2.5L5.5 6 2 9.5M6.5 2.5L10 6 6.5 9.5" class="thin" />
    {:else if word === 'withdrawn'}<path d="M2.4 2.4l7.2 7.2M9.6 2.4l-7.2 7.2" class="thin" style="stroke-width:2" />
    {:else}<path d="M6 1.8l4.6 8.2H1.4z" class="thin" />{/if}
  </svg>
  {word}
</span>

<style>
  .channel {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    color: var(--tone);
    white-space: nowrap;
  }
  .thin {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.5;
    stroke-linecap: round;
    stroke-linejoin: round;
  }
</style>
