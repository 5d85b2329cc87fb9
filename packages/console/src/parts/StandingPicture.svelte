<script lang="ts">
  import { distances, type Distance, type Standing, type StandingGroup } from '@barrow/core';
  import Dot from './Dot.svelte';
  import type { Chosen, Lane } from '../lib/lanes.js';

  let {
    lanes,
    titles,
    chosen,
    onchoose,
  }: { lanes: readonly Lane[]; titles: ReadonlyMap<string, string>; chosen: Chosen | null; onchoose: (chosen: Chosen) => void } = $props();

  /** More dots than this say nothing to the eye; then one stands for several. */
  const mostDots = 40;
  const largest = $derived(lanes.reduce((most, l) => Math.max(most, ...distances.flatMap((p) => l.at[p].map((c) => c.devices))), 1));
  const perDot = $derived(Math.ceil(largest / mostDots));
  /** Between words that are laid out apart, and read together. */
  const gap = ' ';
  const dotsOf = (cluster: StandingGroup): number => Math.ceil(cluster.devices / perDot);
  // A place where nothing stands, in the whole fleet, takes no room; the way to the target is always shown.
  const always: readonly Distance[] = ['2 or more away', '1 away', 'at target'];
  const shown = $derived(distances.filter((p) => always.includes(p) || lanes.some((l) => l.at[p].length > 0)));
  const narrow: readonly Distance[] = ['no target', 'unknown', 'blocked', 'ahead'];
  const words: Record<Distance, string> = {
    'no target': 'no target',
    unknown: 'unknown',
    blocked: 'blocked',
    '2 or more away': '2 or more images away',
    '1 away': '1 image away',
    'at target': 'at target',
    ahead: 'ahead',
  };
  const standingOf: Record<Distance, Standing> = {
    'no target': 'no-target',
    unknown: 'unknown',
    blocked: 'blocked',
    '2 or more away': 'behind',
    '1 away': 'behind',
    'at target': 'at-target',
    ahead: 'ahead',
  };
  const countAt = $derived(
    new Map(distances.map((p) => [p, lanes.reduce((sum, l) => sum + l.at[p].reduce((n, c) => n + c.devices, 0), 0)])),
  );
</script>

<section class="sheet picture" aria-label="The fleet by family and version">
  <table>
    <thead>
      <tr>
        <th scope="col" class="who">Family, and its target</th>
        {#each shown as place (place)}
          <th scope="col" class:goal={place === 'at target'} class:narrow={narrow.includes(place)}>
            <button
              class="place"
              aria-pressed={chosen?.distance === place && chosen.group === null}
              onclick={() => onchoose({ distance: place, group: null })}
              ><Dot standing={standingOf[place]} size={11} /><span>{words[place]} <b>{countAt.get(place)}</b></span></button
            >
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      {#each lanes as lane (lane.key)}
        <tr>
          <th scope="row" class="who">
            <span class="both">
              <span class="title">{lane.family === null ? 'No family fits' : (titles.get(lane.family) ?? lane.family)}</span>
              <span class="mono quiet">{lane.target ?? ''}</span>
            </span>
          </th>
          {#each shown as place (place)}
            <td class:goal={place === 'at target'} data-label={words[place]}>
              {#each lane.at[place] as cluster (cluster.group)}
                {@const first = cluster.after}
                <button
                  class="cluster"
                  aria-pressed={chosen?.group === cluster.group}
                  aria-label="{cluster.firmware ?? 'not known'} {cluster.devices}{first.length > 0
                    ? ` after ${first[0]}`
                    : ''}, of {lane.family ?? 'no family'}: {words[place]}"
                  title={first.length > 0 ? `${first.join(', ')} first` : undefined}
                  onclick={() => onchoose({ distance: place, group: cluster.group })}
                >
                  <span class="dots" aria-hidden="true">
                    {#each { length: dotsOf(cluster) } as _, i (i)}<Dot standing={cluster.standing} size={9} />{/each}
                  </span>
                  <span class="said"
                    ><span class="mono">{cluster.firmware ?? 'not known'}</span>
                    <b>{cluster.devices}</b>{#if first.length > 0}{gap}<span class="quiet after">after {first[0]}</span>{/if}</span
                  >
                </button>
              {/each}
            </td>
          {/each}
        </tr>
      {/each}
    </tbody>
  </table>
  {#if perDot > 1}<p class="quiet legend">One mark stands for {perDot} devices.</p>{/if}
</section>

<style>
  .picture {
    overflow-x: auto;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    table-layout: fixed;
  }
  thead th {
    text-align: left;
    font-weight: 550;
    font-size: 0.8125rem;
    color: var(--quiet);
    padding: 0.3rem;
    vertical-align: bottom;
  }
  .place,
  .cluster {
    display: flex;
    padding: 0.1rem 0.35rem;
    border-radius: var(--radius-base);
    text-align: left;
    max-width: 100%;
  }
  .place {
    align-items: baseline;
    gap: 0.4rem;
  }
  .place b {
    color: var(--ink);
  }
  .cluster {
    flex-wrap: wrap;
    gap: 0.05rem 0.5rem;
    align-items: center;
    width: 100%;
  }
  .place:hover,
  .cluster:hover {
    background: color-mix(in oklab, var(--now) 8%, transparent);
  }
  .place[aria-pressed='true'],
  .cluster[aria-pressed='true'] {
    box-shadow: inset 0 0 0 1.5px var(--now);
  }
  .narrow {
    width: 6.2rem;
  }
  .who {
    width: 17rem;
  }
  thead .who {
    padding: 0.3rem 0.9rem 0.42rem;
  }
  tbody .who {
    font-weight: 400;
    padding: 0.22rem 0.9rem;
  }
  tbody tr {
    border-top: 1px solid color-mix(in oklab, var(--line) 70%, transparent);
  }
  .both {
    display: flex;
    gap: 0.6rem;
    justify-content: space-between;
    align-items: baseline;
  }
  .title {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  td {
    padding: 0.12rem 0.3rem;
    vertical-align: middle;
  }
  /* The line that everything is on its way to. */
  .goal {
    background: color-mix(in oklab, var(--good) 7%, transparent);
    border-left: 2px solid var(--good);
  }
  .dots {
    display: flex;
    flex-wrap: wrap;
    gap: 2px;
  }
  .said {
    font-size: 0.75rem;
    line-height: 1.25;
  }
  .after {
    display: block;
  }
  .legend {
    padding: 0.3rem 0.9rem 0.5rem;
  }
  /* On a phone each family is a paragraph: what stands where, in words beside its marks. */
  @media (max-width: 40rem) {
    table,
    thead,
    tbody {
      display: block;
    }
    tr {
      display: flex;
      flex-wrap: wrap;
      padding: 0.4rem 0.5rem;
    }
    thead .who,
    td:not(:has(.cluster)) {
      display: none;
    }
    thead th {
      width: auto;
      padding: 0;
    }
    tbody .who {
      flex: 1 0 100%;
      width: auto;
      padding: 0.1rem 0.35rem;
    }
    .title {
      font-weight: 600;
    }
    td {
      flex: 1 0 100%;
      display: grid;
      grid-template-columns: 8.5rem minmax(0, 1fr);
      padding: 0;
    }
    td::before {
      content: attr(data-label);
      grid-row: 1 / span 20;
      padding: 0.15rem 0.35rem;
      font-size: 0.8125rem;
      color: var(--quiet);
    }
    td.goal,
    th.goal {
      border: 0;
      background: none;
    }
  }
</style>
