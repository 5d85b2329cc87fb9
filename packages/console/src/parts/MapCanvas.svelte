<script lang="ts">
  import { select } from 'd3-selection';
  import { zoom, zoomIdentity, type ZoomTransform } from 'd3-zoom';
  import Minus from '@lucide/svelte/icons/minus';
  import Plus from '@lucide/svelte/icons/plus';
  import Scan from '@lucide/svelte/icons/scan';
  import type { Layout } from '../lib/map-layout.js';
  import { atPoint, inPlace, paint, type Line, type Look } from '../lib/map-paint.js';
  import { mode } from '../lib/mode.svelte.js';

  /** The whole of a large map, painted: ten thousand devices are no ten thousand elements. What it shows, the table says. */
  let {
    layout,
    lines,
    looks,
    label,
    onlook,
    onopen,
    onfold,
  }: {
    layout: Layout;
    lines: readonly Line[];
    /** How a device looks that looks otherwise than the others. */
    looks: (id: string) => Look;
    label: string;
    onlook: (id: string | null) => void;
    onopen: (id: string) => void;
    onfold: (site: string) => void;
  } = $props();

  let canvas = $state<HTMLCanvasElement | null>(null);
  let width = $state(0);
  let height = $state(0);
  let view = $state.raw<ZoomTransform>(zoomIdentity);
  const places = $derived(inPlace(layout));

  /** All of it in the window. */
  function whole(): ZoomTransform {
    const scale = Math.min(width / Math.max(1, places.width + 24), height / Math.max(1, places.height + 24), 1.3);
    return zoomIdentity.translate((width - places.width * scale) / 2, (height - places.height * scale) / 2).scale(scale);
  }
  const moves = zoom<HTMLCanvasElement, unknown>()
    .scaleExtent([0.02, 2.5])
    .on('zoom', (event: { transform: ZoomTransform }) => (view = event.transform));
  $effect(() => {
    if (canvas) select(canvas).call(moves).on('dblclick.zoom', null);
  });
  const move = (to: ZoomTransform) => canvas && moves.transform(select(canvas), to);
  let fitted: Layout | null = null;
  $effect(() => {
    if (!canvas || width === 0 || fitted === layout) return;
    fitted = layout;
    move(whole());
  });

  $effect(() => {
    const context = canvas?.getContext('2d');
    if (!canvas || !context || width === 0) return;
    // Colours are the page's own, light or dark.
    void mode.now;
    const frame = { view, width, height, ratio: window.devicePixelRatio };
    const what = { places, lines, looks };
    const next = requestAnimationFrame(() => paint(context, frame, what, getComputedStyle(canvas!)));
    return () => cancelAnimationFrame(next);
  });

  const under = (event: MouseEvent) => atPoint(places, view.invert([event.offsetX, event.offsetY]));
  function keys(event: KeyboardEvent) {
    const step = 80;
    const by = { ArrowLeft: [step, 0], ArrowRight: [-step, 0], ArrowUp: [0, step], ArrowDown: [0, -step] }[event.key];
    if (!canvas) return;
    if (by) moves.translateBy(select(canvas), by[0]! / view.k, by[1]! / view.k);
    else if (event.key === '+') moves.scaleBy(select(canvas), 1.4);
    else if (event.key === '-') moves.scaleBy(select(canvas), 1 / 1.4);
    else if (event.key === 'Home') move(whole());
    else return;
    event.preventDefault();
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="whole"
  role="application"
  aria-label="{label}. Arrows move it, plus and minus zoom, Home shows all of it."
  tabindex="0"
  onkeydown={keys}
  bind:clientWidth={width}
  bind:clientHeight={height}
>
  <canvas
    bind:this={canvas}
    width={Math.round(width * window.devicePixelRatio)}
    height={Math.round(height * window.devicePixelRatio)}
    aria-hidden="true"
    onmousemove={(e) => onlook(under(e).device)}
    onmouseleave={() => onlook(null)}
    onclick={(e) => {
      const found = under(e);
      if (found.device !== null) onopen(found.device);
      else if (found.title !== null) onfold(found.title);
    }}
  ></canvas>
  <div class="zoom">
    <button aria-label="Nearer" onclick={() => canvas && moves.scaleBy(select(canvas), 1.4)}><Plus size={15} aria-hidden="true" /></button>
    <button aria-label="Farther" onclick={() => canvas && moves.scaleBy(select(canvas), 1 / 1.4)}
      ><Minus size={15} aria-hidden="true" /></button
    >
    <button aria-label="All of it" onclick={() => move(whole())}><Scan size={15} aria-hidden="true" /></button>
  </div>
</div>

<style>
  .whole {
    position: absolute;
    inset: 0;
  }
  canvas {
    width: 100%;
    height: 100%;
    cursor: grab;
    --mark: color-mix(in srgb, var(--quiet) 45%, var(--sheet));
  }
  .zoom {
    position: absolute;
    left: 0.75rem;
    bottom: 0.75rem;
    display: grid;
    border: 1px solid var(--line);
    border-radius: 4px;
    background: var(--sheet);
  }
  .zoom button {
    padding: 0.3rem;
  }
</style>
