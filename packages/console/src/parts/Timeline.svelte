<script lang="ts">
  import type { RehearsalView, TimelineView } from '@barrow/core';
  import { axisOf, chainLines, localTime } from '@barrow/client';
  import { count, duration } from '../lib/format.js';

  type Drawn = Pick<RehearsalView, 'beginsAt' | 'totalMs' | 'waves' | 'runs'>;
  /**
   * A rehearsal as a picture, or what happened and is foretold beside it: a row for each device, time to the right. Only the rows in
   * view are drawn.
   */
  let { rehearsal, timeline }: { rehearsal?: RehearsalView; timeline?: TimelineView } = $props();

  const drawn = $derived.by((): Drawn => {
    if (!timeline) return rehearsal!;
    const ends = [timeline.endsAt, timeline.now, timeline.rehearsed.endsAt, ...timeline.runs.map((r) => r.endsAt)];
    return { ...timeline, totalMs: Math.max(...ends.map((m) => Date.parse(m))) - Date.parse(timeline.beginsAt) };
  });
  const chain = $derived(rehearsal?.chain ?? []);
  /** When a device is one of those that make it long. */
  const decides = (run: Run): { from: string; until: string }[] =>
    chain.flatMap(({ names, from, until }) =>
      names.includes(run.name) && run.beginsAt < until && run.endsAt > from
        ? [{ from: from > run.beginsAt ? from : run.beginsAt, until: until < run.endsAt ? until : run.endsAt }]
        : [],
    );
  const rehearsedOf = $derived(new Map(timeline?.rehearsed.runs.map((r) => [r.run, r])));
  const isOver = $derived(timeline !== undefined && timeline.now >= timeline.endsAt);

  type Run = RehearsalView['runs'][number];
  type Row = { readonly wave: number; readonly run: Run | null };
  const rowHeight = 20;
  const before = ['prepare', 'transfer'];

  const begins = $derived(Date.parse(drawn.beginsAt));
  const axis = $derived(axisOf(drawn, timeline && !isOver ? [Date.parse(timeline.now)] : []));
  const rows = $derived(
    drawn.waves.flatMap(({ wave }): Row[] => [
      { wave, run: null },
      ...drawn.runs.filter((r) => r.wave === wave).map((run): Row => ({ wave, run })),
    ]),
  );
  let zoom = $state(1);
  let scrolled = $state(0);
  let height = $state(300);
  let current = $state(-1);
  let pointed = $state(-1);
  const firstRow = $derived(Math.max(0, Math.floor(scrolled / rowHeight) - 5));
  const shown = $derived(rows.slice(firstRow, firstRow + Math.ceil(height / rowHeight) + 10));
  const at = (moment: string): number => axis.at(Date.parse(moment)) * 1000;
  const wide = (span: { from: string; until: string }): number => Math.max(1.5 / zoom, at(span.until) - at(span.from));
  const after = (moment: string): string => `+${duration(Date.parse(moment) - begins)}`;
  const ticks = $derived(Array.from({ length: 6 * zoom }, (_, i) => i / (6 * zoom)));
  const told = $derived(rows[pointed >= 0 ? pointed : current]);

  const isPast = (moment: string): boolean => timeline !== undefined && moment <= timeline.now;
  function words({ run, wave }: Row): string {
    if (!run) {
      const found = drawn.waves.find((w) => w.wave === wave)!;
      return `Wave ${wave + 1}: ${after(found.opensAt)} to ${after(found.endsAt)}`;
    }
    const waits = run.parts.flatMap((p) => (p.waited === null ? [] : [`before ${p.name} it ${p.waited}`]));
    const darks = run.dark.map((d) => `down ${after(d.from)} for ${duration(Date.parse(d.until) - Date.parse(d.from))}`);
    const beside = rehearsedOf.get(run.run);
    const cuts = [...new Set(run.cut.map((c) => c.by))];
    return [
      `${run.name}: ${isPast(run.beginsAt) ? 'begun' : 'begins'} ${after(run.beginsAt)}`,
      ...darks,
      `${isPast(run.endsAt) ? 'ended' : 'ends'} ${after(run.endsAt)}`,
      ...(beside ? [`rehearsed ${after(beside.beginsAt)} to ${after(beside.endsAt)}`] : []),
      ...waits,
      ...(cuts.length > 0 ? [`cut off while ${cuts.join(', ')} ${cuts.length === 1 ? 'is' : 'are'} down`] : []),
    ].join('; ');
  }
  function onkeydown(event: KeyboardEvent) {
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 10, PageUp: -10, Home: -Infinity, End: Infinity }[event.key];
    if (by === undefined) return;
    event.preventDefault();
    current = Math.min(rows.length - 1, Math.max(0, current + by));
    const box = event.currentTarget as HTMLElement;
    const top = current * rowHeight;
    if (top < box.scrollTop || top > box.scrollTop + box.clientHeight - 3 * rowHeight) box.scrollTop = top - box.clientHeight / 2;
  }
</script>

<section class="sheet timeline" aria-labelledby="timeline-head">
  <div class="bar">
    <h2 id="timeline-head">{timeline ? 'As it goes' : 'Rehearsal'}</h2>
    <span class="legend"
      ><i data-part="work"></i> looked at, takes its image <i data-part="change"></i> changed <i data-part="dark"></i> down
      <i data-part="cut"></i> cut off by another {#if axis.pauses.length > 0}<i data-part="pause"></i>
        {axis.pauses.map((p) => duration(p.until - p.from)).join(' and ')} in which nothing happens{/if}
      {#if timeline}<i data-part="rehearsed"></i> as rehearsed{:else if chain.length > 0}<i data-part="decides"></i> makes it long{/if}</span
    >
    <span class="zoom" role="group" aria-label="Zoom"
      >{#each [1, 4, 16] as z (z)}<button class="anchor" aria-pressed={zoom === z} onclick={() => (zoom = z)}
          >{z === 1 ? 'whole' : `${z} ×`}</button
        >{/each}</span
    >
  </div>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    class="box"
    role="group"
    tabindex="0"
    aria-label="{count(drawn.runs.length, 'device')} over {duration(
      drawn.totalMs,
    )}; arrow keys go from one to the next, what each does is told below"
    bind:clientHeight={height}
    onscroll={(e) => (scrolled = e.currentTarget.scrollTop)}
    onpointerleave={() => (pointed = -1)}
    {onkeydown}
  >
    <div class="inner" style:width="{zoom * 100}%">
      <div class="scale" aria-hidden="true">
        <span class="name"></span>
        <span class="plot"
          >{#each ticks as tick (tick)}<span style:left="{tick * 100}%">{axis.label(tick)}</span>{/each}</span
        >
      </div>
      <div style:height="{rows.length * rowHeight}px" class="rows" aria-hidden="true">
        {#each axis.pauses as pause (pause.from)}<span class="over"
            ><i class="pause" style:left="{axis.at(pause.from) * 100}%" style:width="{(axis.at(pause.until) - axis.at(pause.from)) * 100}%"
            ></i></span
          >{/each}
        {#if timeline && !isOver}<span class="over"
            ><i class="coming" style:left="{at(timeline.now) / 10}%"></i><i class="now" style:left="{at(timeline.now) / 10}%"></i></span
          >{/if}
        {#each shown as row, i (row.run?.run ?? `wave ${row.wave}`)}
          {@const index = firstRow + i}
          <!-- svelte-ignore a11y_no_static_element_interactions -->
          <div
            class="row"
            class:head={!row.run}
            class:told={index === (pointed >= 0 ? pointed : current)}
            style:top="{index * rowHeight}px"
            onpointerenter={() => (pointed = index)}
          >
            <span class="name">{row.run?.name ?? `Wave ${row.wave + 1}`}</span>
            <svg class="plot" viewBox="0 0 1000 10" preserveAspectRatio="none">
              {#if row.run}
                <line x1={at(row.run.beginsAt)} x2={at(row.run.endsAt)} y1="5" y2="5" />
                {#each row.run.cut as span, n (n)}<rect data-part="cut" x={at(span.from)} width={wide(span)} y="0" height="10" />{/each}
                {#each row.run.parts as part, n (n)}<rect
                    data-part={before.includes(part.name) ? 'work' : 'change'}
                    x={at(part.from)}
                    width={wide(part)}
                    y="2"
                    height="6"
                  />{/each}
                {#each row.run.dark as span, n (n)}<rect data-part="dark" x={at(span.from)} width={wide(span)} y="1" height="8" />{/each}
                {#each decides(row.run) as span, n (n)}<rect
                    data-part="decides"
                    x={at(span.from)}
                    width={wide(span)}
                    y="8.6"
                    height="1.4"
                  />{/each}
                {@const beside = rehearsedOf.get(row.run.run)}
                {#if beside}<rect
                    data-part="rehearsed"
                    x={at(beside.beginsAt)}
                    width={wide({ from: beside.beginsAt, until: beside.endsAt })}
                    y="0"
                    height="1.2"
                  />{/if}
              {:else}
                {@const wave = drawn.waves.find((w) => w.wave === row.wave)!}
                <rect data-part="wave" x={at(wave.opensAt)} width={wide({ from: wave.opensAt, until: wave.endsAt })} y="4" height="2" />
              {/if}
            </svg>
          </div>
        {/each}
      </div>
    </div>
  </div>
  <p class="told" role="status">
    {told ? words(told) : 'Point at a device, or go through them with the arrow keys, to read what it does and why it waits.'}
  </p>
  {#if rehearsal && chain.length > 0}
    <details class="long">
      <summary>What makes it long</summary>
      <table class="list">
        <thead><tr><th>From</th><th>For</th><th>Who</th><th>Why not sooner</th></tr></thead>
        <tbody>
          {#each chainLines(rehearsal) as line, n (n)}
            <tr><td>+{duration(line.after)}</td><td>{duration(line.takes)}</td><td>{line.what}</td><td>{line.why}</td></tr>
          {/each}
        </tbody>
      </table>
    </details>
  {:else if timeline}
    <p class="told">
      Begun {localTime(timeline.beginsAt)}, now {localTime(timeline.now)}; it {isOver ? 'ended' : 'ends about'}
      {localTime(timeline.endsAt)}, rehearsed {localTime(timeline.rehearsed.endsAt)}.
    </p>
  {/if}
</section>

<style>
  .timeline {
    padding: 0.75rem 1rem;
  }
  .bar {
    display: flex;
    align-items: baseline;
    gap: 1rem;
    flex-wrap: wrap;
  }
  .legend {
    color: var(--quiet);
    font-size: 0.8rem;
  }
  .legend i {
    display: inline-block;
    width: 1rem;
    height: 0.6rem;
    margin-left: 0.6rem;
    background: var(--fill);
  }
  .zoom {
    margin-left: auto;
    display: flex;
    gap: 0.75rem;
  }
  .zoom [aria-pressed='true'] {
    text-decoration: underline;
    font-weight: 600;
  }
  .box {
    overflow: auto;
    max-height: 26rem;
    margin-top: 0.5rem;
    position: relative;
  }
  .scale,
  .row {
    display: flex;
  }
  .scale {
    position: sticky;
    top: 0;
    z-index: 2;
    background: var(--sheet);
    color: var(--quiet);
    font-size: 0.75rem;
    height: 1.25rem;
    border-bottom: 1px solid var(--line);
  }
  .scale .plot span {
    position: absolute;
    white-space: nowrap;
  }
  .rows {
    position: relative;
  }
  .row {
    position: absolute;
    left: 0;
    right: 0;
    height: 20px;
    align-items: center;
  }
  .row.head {
    color: var(--quiet);
    font-weight: 600;
  }
  .row.told,
  .row.told .name {
    background: color-mix(in oklab, var(--now) 12%, var(--sheet));
  }
  .name {
    position: sticky;
    left: 0;
    z-index: 1;
    width: 11rem;
    flex: none;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    background: var(--sheet);
    font-size: 0.8rem;
    font-weight: 400;
  }
  .row.head .name {
    font-weight: 600;
  }
  .plot {
    position: relative;
    flex: 1;
    height: 16px;
    min-width: 0;
  }
  svg line {
    stroke: var(--quiet);
    stroke-width: 1;
    stroke-dasharray: 2 2;
    vector-effect: non-scaling-stroke;
  }
  svg rect {
    fill: var(--fill);
  }
  [data-part='work'] {
    --fill: color-mix(in oklab, var(--now) 45%, var(--sheet));
  }
  [data-part='change'] {
    --fill: var(--now);
  }
  [data-part='dark'] {
    --fill: var(--ink);
  }
  [data-part='cut'] {
    --fill: color-mix(in oklab, var(--care) 45%, var(--sheet));
  }
  [data-part='decides'] {
    --fill: var(--care);
  }
  [data-part='rehearsed'] {
    --fill: var(--quiet);
  }
  .over {
    position: absolute;
    inset: 0 0 0 11rem;
    pointer-events: none;
    z-index: 1;
  }
  .over i {
    position: absolute;
    top: 0;
    bottom: 0;
  }
  .over .pause,
  .legend [data-part='pause'] {
    background: repeating-linear-gradient(135deg, var(--line) 0 2px, transparent 2px 6px);
  }
  .over .pause {
    border-inline: 1px solid var(--line);
    background-color: var(--sheet);
  }
  .over .coming {
    right: 0;
    background: color-mix(in oklab, var(--sheet) 55%, transparent);
  }
  .over .now {
    border-left: 2px solid var(--now);
  }
  .long td:nth-child(-n + 2) {
    white-space: nowrap;
  }
  .long {
    margin-top: 0.25rem;
  }
  .long summary {
    cursor: pointer;
    font-weight: 550;
  }
  [data-part='wave'] {
    --fill: var(--line);
  }
  p.told {
    margin-top: 0.5rem;
    min-height: 2.6em;
    color: var(--quiet);
  }
</style>
