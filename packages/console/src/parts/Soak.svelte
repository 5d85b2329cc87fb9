<script lang="ts">
  import type { SoakFinding } from '@barrow/core';
  import { soakChange, soakValue, soakWord } from '@barrow/client';
  import { duration } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client } from '../lib/session.svelte.js';
  import Trouble from './Trouble.svelte';

  /** What the devices of a wave showed while they soaked, each finding with its picture: the upgraded ones beside their untouched twins. */
  let { rollout, wave }: { rollout: string; wave: number } = $props();

  const loaded = new Loaded(() => client().soaks(rollout), []);
  const soak = $derived(loaded.value?.findLast((s) => s.wave === wave) ?? null);

  const [width, height] = [420, 72];
  type Series = SoakFinding['series'][number];

  function scaleOf(series: readonly Series[]) {
    const points = series.flatMap((s) => s.points);
    const values = points.map(([, value]) => value);
    const [least, greatest] = [Math.min(...values), Math.max(...values)];
    const minutes = Math.max(1, ...points.map(([at]) => at));
    const span = greatest - least || 1;
    return {
      least,
      greatest,
      minutes,
      line: (s: Series) =>
        s.points.map(([at, value]) => `${(at / minutes) * width},${height - 4 - ((value - least) / span) * (height - 8)}`).join(' '),
    };
  }
  const words = { worse: 'got worse', told: 'no harm', unknown: 'cannot be said' } as const;
</script>

{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if soak}
  <div class="soak" role="group" aria-label="What was seen while wave {wave + 1} soaked">
    <p class="quiet">{soak.looks} {soak.looks === 1 ? 'soak sample' : 'soak samples'}: {soakWord(soak.findings, soak.looks)}.</p>
    {#each soak.findings as finding, i (i)}
      {@const drawn = finding.series.filter((s) => s.points.length > 1)}
      <div class="finding" data-verdict={finding.verdict}>
        <p><b>{words[finding.verdict]}</b> {finding.text}</p>
        {#if drawn.length > 0}
          {@const scale = scaleOf(drawn)}
          <figure>
            <span class="y">{soakValue(finding.measure, scale.greatest)}</span>
            <svg viewBox="0 0 {width} {height}" preserveAspectRatio="none" role="img" aria-label="{finding.measure}: {finding.text}">
              {#each [...drawn].reverse() as s (s.name)}<polyline class:upgraded={s.upgraded} points={scale.line(s)}
                  ><title>{s.name}, {s.upgraded ? 'upgraded' : 'untouched'}: {soakChange(finding.measure, s.points)}</title></polyline
                >{/each}
            </svg>
            <span class="y low">{soakValue(finding.measure, scale.least)}</span>
            <figcaption>
              <span class="key up">{drawn.filter((s) => s.upgraded).length} upgraded</span>
              <span class="key">{drawn.filter((s) => !s.upgraded).length} untouched</span>
              <span class="quiet">over {duration(scale.minutes * 60_000)} of their time</span>
            </figcaption>
          </figure>
        {/if}
      </div>
    {/each}
  </div>
{/if}

<style>
  .soak {
    border-top: 1px solid var(--line);
    padding: 0.6rem 1rem 0.7rem;
  }
  .finding {
    margin-top: 0.5rem;
  }
  .finding[data-verdict='worse'] b {
    color: var(--bad);
  }
  .finding[data-verdict='unknown'] b {
    color: var(--warn, inherit);
  }
  figure {
    display: grid;
    grid-template: auto 1fr auto / 4.5rem minmax(0, 26rem);
    column-gap: 0.6rem;
    margin-top: 0.3rem;
  }
  svg {
    grid-area: 1 / 2 / 3 / 3;
    width: 100%;
    height: 4.5rem;
    border-left: 1px solid var(--line);
    border-bottom: 1px solid var(--line);
  }
  .y {
    grid-area: 1 / 1;
    text-align: right;
    font-size: 0.8rem;
    color: var(--quiet);
  }
  .y.low {
    grid-area: 2 / 1;
    align-self: end;
  }
  figcaption {
    grid-area: 3 / 2;
    display: flex;
    flex-wrap: wrap;
    gap: 0.2rem 1rem;
    font-size: 0.8rem;
    margin-top: 0.25rem;
  }
  polyline {
    fill: none;
    stroke: var(--quiet);
    stroke-width: 1.25;
    stroke-dasharray: 4 3;
    vector-effect: non-scaling-stroke;
  }
  polyline.upgraded {
    stroke: var(--bad);
    stroke-dasharray: none;
    stroke-width: 2;
  }
  [data-verdict='told'] polyline.upgraded {
    stroke: var(--now);
  }
  .key::before {
    content: '';
    display: inline-block;
    width: 1.4rem;
    border-top: 2px dashed var(--quiet);
    vertical-align: middle;
    margin-right: 0.4rem;
  }
  .key.up::before {
    border-top: 2px solid var(--bad);
  }
  [data-verdict='told'] .key.up::before {
    border-top-color: var(--now);
  }
</style>
