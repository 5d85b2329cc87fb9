<script lang="ts">
  import type { Standing } from '@barrow/core';
  import { places, type Cluster, type Lane, type Place } from '../lib/lanes.js';

  let {
    lanes,
    titles,
    chosen,
    onchoose,
  }: {
    lanes: readonly Lane[];
    titles: ReadonlyMap<string, string>;
    chosen: { lane: string; place: Place; firmware: string | null } | null;
    onchoose: (lane: Lane, place: Place, firmware: string | null) => void;
  } = $props();

  /** More dots than this say nothing to the eye; then one stands for several. */
  const mostDots = 40;
  const largest = $derived(Math.max(1, ...lanes.flatMap((l) => places.flatMap((p) => l.at[p].map((c) => c.devices.length)))));
  const perDot = $derived(Math.ceil(largest / mostDots));
  const dotsOf = (cluster: Cluster): number => Math.ceil(cluster.devices.length / perDot);
  // A place where nothing stands, in the whole fleet, takes no room; the way to the target is always shown.
  const shown = $derived(
    places.filter((p) => ['2 or more away', '1 away', 'at target'].includes(p) || lanes.some((l) => l.at[p].length > 0)),
  );
  const words: Record<Place, string> = {
    'no target': 'no target',
    unknown: 'unknown',
    blocked: 'blocked',
    '2 or more away': '2 or more images away',
    '1 away': '1 image away',
    'at target': 'at target',
    ahead: 'ahead',
  };
  const tones: Record<Standing, string> = {
    'at-target': 'good',
    behind: 'care',
    ahead: 'now',
    blocked: 'bad',
    unknown: 'quiet',
    'no-target': 'quiet',
  };
  const isChosen = (lane: Lane, place: Place, c: Cluster): boolean =>
    chosen !== null && chosen.lane === lane.key && chosen.place === place && chosen.firmware === c.firmware;
  const partners = (c: Cluster): string[] => [...new Set(c.devices.flatMap((d) => d.path.flatMap((p) => (p.on ? [p.on.name] : []))))];
</script>

<section class="sheet picture" aria-label="The fleet by family and version">
  <table style:--places={shown.length}>
    <thead>
      <tr>
        <th scope="col" class="who">Family, target</th>
        {#each shown as place (place)}<th scope="col" class:goal={place === 'at target'}>{words[place]}</th>{/each}
      </tr>
    </thead>
    <tbody>
      {#each lanes as lane (lane.key)}
        <tr>
          <th scope="row" class="who">
            <span class="title">{lane.family === null ? 'No family fits' : (titles.get(lane.family) ?? lane.family)}</span>
            <span class="mono target">{lane.target ?? ''}</span>
          </th>
          {#each shown as place (place)}
            <td class:goal={place === 'at target'}>
              {#each lane.at[place] as cluster (`${cluster.standing}${cluster.firmware}`)}
                <button
                  class="cluster"
                  aria-pressed={isChosen(lane, place, cluster)}
                  aria-label="{cluster.devices.length} of {lane.family ?? 'no family'} run {cluster.firmware ??
                    'an unknown version'}: {words[place]}"
                  title={partners(cluster).length > 0 ? `${partners(cluster).join(', ')} first` : undefined}
                  style:--tone="var(--{tones[cluster.standing]})"
                  onclick={() => onchoose(lane, place, cluster.firmware)}
                >
                  <span class="dots" aria-hidden="true">
                    {#each { length: dotsOf(cluster) } as _, i (i)}
                      <svg viewBox="0 0 10 10" width="9" height="9">
                        {#if cluster.standing === 'at-target'}<circle cx="5" cy="5" r="4.2" fill="currentColor" />
                        {:else if cluster.standing === 'behind'}<circle cx="5" cy="5" r="3.6" class="thin" /><path
                            d="M5 1.4a3.6 3.6 0 0 0 0 7.2z"
                            fill="currentColor"
                          />
                        {:else if cluster.standing === 'ahead'}<circle cx="5" cy="5" r="3.6" class="thin" /><path
                            d="M5 1.4a3.6 3.6 0 0 1 0 7.2z"
                            fill="currentColor"
                          />
                        {:else if cluster.standing === 'blocked'}<rect x="1.2" y="1.2" width="7.6" height="7.6" fill="currentColor" />
                        {:else}<circle cx="5" cy="5" r="3.6" class="thin" />{/if}
                      </svg>
                    {/each}
                  </span>
                  <span class="label"
                    ><span class="mono">{cluster.firmware ?? 'not known'}</span>
                    <b>{cluster.devices.length}</b>{#if partners(cluster).length > 0}<span class="quiet"
                        >, after {partners(cluster)[0]}</span
                      >{/if}</span
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
    padding: 0.45rem 0.6rem;
  }
  .who {
    width: 17rem;
    text-align: left;
    font-weight: 400;
    padding: 0.3rem 0.9rem;
  }
  tbody tr {
    border-top: 1px solid color-mix(in oklab, var(--line) 70%, transparent);
  }
  tbody .who {
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
  .target {
    color: var(--quiet);
  }
  td {
    padding: 0.15rem 0.3rem;
    vertical-align: middle;
  }
  /* The line that everything is on its way to. */
  .goal {
    background: color-mix(in oklab, var(--good) 7%, transparent);
    border-left: 2px solid var(--good);
  }
  .cluster {
    display: flex;
    flex-direction: column;
    gap: 0.05rem;
    align-items: flex-start;
    padding: 0.15rem 0.35rem;
    border-radius: var(--radius-base);
    color: var(--tone);
    text-align: left;
    max-width: 100%;
  }
  .cluster:hover {
    background: color-mix(in oklab, var(--now) 8%, transparent);
  }
  .cluster[aria-pressed='true'] {
    box-shadow: inset 0 0 0 1.5px var(--now);
  }
  .dots {
    display: flex;
    flex-wrap: wrap;
    gap: 2px;
  }
  .label {
    color: var(--ink);
    font-size: 0.75rem;
    line-height: 1.2;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    max-width: 100%;
  }
  .thin {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.3;
  }
  .legend {
    padding: 0.3rem 0.9rem 0.5rem;
  }
</style>
