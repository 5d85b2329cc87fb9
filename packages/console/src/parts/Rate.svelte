<script lang="ts">
  import { octets } from '@barrow/client';

  let {
    rates,
    width = 84,
    height = 18,
    stuck = false,
    large = false,
  }: { rates: readonly number[]; width?: number; height?: number; stuck?: boolean; large?: boolean } = $props();
  const most = $derived(Math.max(1, ...rates));
  const step = $derived(rates.length > 1 ? width / (rates.length - 1) : width);
  const y = (rate: number) => height - 1 - (rate / most) * (height - 2);
  const line = $derived(
    rates.length === 0 ? '' : (rates.length === 1 ? [rates[0]!, rates[0]!] : rates).map((r, i) => `${i * step},${y(r)}`).join(' '),
  );
  const words = $derived(
    rates.length === 0 ? 'nothing has moved yet' : `at most ${octets(most)} a second, now ${octets(rates.at(-1) ?? 0)}`,
  );
</script>

<svg
  viewBox="0 0 {width} {height}"
  {width}
  {height}
  role="img"
  aria-label="Rate: {words}"
  class:stuck
  class:large
  preserveAspectRatio="none"
>
  <line x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} class="ground" />
  {#if line}
    <polygon points="0,{height} {line} {width},{height}" class="fill" />
    <polyline points={line} class="rate" />
  {/if}
</svg>

<style>
  svg {
    display: block;
    color: var(--now);
    overflow: visible;
  }
  .large {
    width: 100%;
  }
  .stuck {
    color: var(--bad);
  }
  .ground {
    stroke: var(--line);
  }
  .rate {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.5;
    vector-effect: non-scaling-stroke;
  }
  .fill {
    fill: currentColor;
    opacity: 0.12;
  }
</style>
