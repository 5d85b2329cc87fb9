<script lang="ts">
  import { Controls, SvelteFlow, type Edge, type Node } from '@xyflow/svelte';
  import '@xyflow/svelte/dist/style.css';
  import Empty from '../parts/Empty.svelte';
  import KindIcon from '../parts/KindIcon.svelte';
  import MapCanvas from '../parts/MapCanvas.svelte';
  import MapDevice from '../parts/MapDevice.svelte';
  import MapSite from '../parts/MapSite.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { oneInAddress } from '../lib/address.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { layOut } from '../lib/map-layout.js';
  import type { Line, Look } from '../lib/map-paint.js';
  import { mode } from '../lib/mode.svelte.js';
  import { goTo } from '../lib/place.js';
  import { client } from '../lib/session.svelte.js';

  /** More devices than this begin folded up by site. */
  const foldFrom = 160;
  /** With more than this drawn they are painted, for no browser holds so many elements. */
  const paintFrom = 1200;

  let folded = $state.raw<ReadonlySet<string> | null>(null);
  let looked = $state<string | null>(null);
  let focus = $state<string | null>(null);
  let showPower = $state(true);
  let wanted = $state('');
  let width = $state(1200);
  let height = $state(680);

  const loaded = new Loaded(async () => {
    const found = await client().map();
    folded ??= found.devices.length > foldFrom ? new Set(found.devices.map((d) => d.site)) : new Set();
    return found;
  }, ['devices']);
  const map = $derived(loaded.value);

  const look = (id: string | null) => (looked = id);
  const fold = (site: string) => {
    const next = new Set(folded);
    const opens = next.delete(site);
    if (!opens) next.add(site);
    folded = next;
    // A site that is opened among folded ones fills the window.
    focus = opens && next.size > 0 ? site : null;
  };
  // Laid out anew only when devices, links or folds change, not when somebody looks at one.
  const layout = $derived(map && folded ? layOut(map, folded, width / Math.max(1, height)) : null);
  const byId = $derived(new Map((map?.devices ?? []).map((d) => [d.id, d])));
  const near = $derived.by(() => {
    if (!looked || !map) return null;
    const found = new Set([looked]);
    for (const l of map.links) {
      if (l.a.device === looked) found.add(l.b.device);
      if (l.b.device === looked) found.add(l.a.device);
    }
    for (const f of map.feeds) {
      if (f.from.device === looked) found.add(f.to.device);
      if (f.to.device === looked) found.add(f.from.device);
    }
    for (const d of map.devices) if (d.parent === looked) found.add(d.id);
    const parent = byId.get(looked)?.parent;
    if (parent) found.add(parent);
    return found;
  });
  const search = $derived(wanted.trim().toLowerCase());

  // The same in words, for whom a drawing says nothing.
  const view = oneInAddress('view', ['table'] as const);
  interface Told {
    readonly from: string;
    readonly fromPort: string;
    readonly to: string;
    readonly toPort: string;
    readonly what: string;
    readonly sure: string;
  }
  const collator = new Intl.Collator('en', { numeric: true });
  const lines = $derived.by((): Told[] => {
    if (!map || view.value !== 'table') return [];
    const all = [
      ...map.links.map((l) => ({
        ...{ from: l.a.name, fromPort: l.a.port ?? '', to: l.b.name, toPort: l.b.port ?? '', sure: l.sure },
        what: [l.medium, l.speedMbps === null ? '' : `${l.speedMbps} Mbit/s`, l.bundled > 1 ? `${l.bundled} bundled` : '']
          .filter(Boolean)
          .join(', '),
      })),
      ...map.feeds.map((f) => ({
        ...{ from: f.from.name, fromPort: f.from.port ?? '', to: f.to.name, toPort: '', what: 'feeds it', sure: f.sure },
      })),
      ...map.devices.flatMap((d) =>
        d.console
          ? [{ from: d.console.name, fromPort: d.console.port ?? '', to: d.name, toPort: '', what: 'its console', sure: 'by-hand' }]
          : [],
      ),
      ...map.devices.flatMap((d) =>
        d.gives ? [{ from: d.name, fromPort: '', to: '–', toPort: '', what: `gives ${d.gives}`, sure: 'by-hand' }] : [],
      ),
      ...map.devices.flatMap((d) => {
        const parent = d.parent === null ? undefined : byId.get(d.parent);
        return parent ? [{ from: parent.name, fromPort: '', to: d.name, toPort: '', what: 'manages it', sure: 'told' }] : [];
      }),
    ];
    return all
      .filter((l) => search === '' || `${l.from} ${l.to}`.toLowerCase().includes(search))
      .sort((a, b) => collator.compare(a.from, b.from) || collator.compare(a.fromPort, b.fromPort) || collator.compare(a.to, b.to));
  });

  const painted = $derived((layout?.devices.length ?? 0) > paintFrom);
  const nodes = $derived.by((): Node[] => {
    if (!layout || painted) return [];
    return [
      ...layout.sites.map((s): Node => ({
        id: `site ${s.site}`,
        type: 'site',
        position: { x: s.x, y: s.y },
        width: s.width,
        height: s.height,
        draggable: false,
        selectable: false,
        focusable: false,
        zIndex: -1,
        data: { site: s.site, devices: s.devices, folded: s.folded, fold },
      })),
      ...layout.devices.map((d): Node => {
        const { dim, chosen, flagged, alone } = looks(d.id);
        return {
          id: d.id,
          type: 'device',
          position: { x: d.x, y: d.y },
          width: d.width,
          height: d.height,
          draggable: false,
          selectable: false,
          focusable: false,
          data: {
            id: d.id,
            name: d.name,
            short: d.short,
            kind: d.kind,
            flagged,
            noUplink: alone,
            dim,
            chosen,
            look,
          },
        };
      }),
    ];
  });
  const drawn = $derived(new Set(layout?.devices.map((d) => d.id)));
  const siteOf = $derived(new Map((map?.devices ?? []).map((d) => [d.id, d.site])));
  const places = $derived(
    new Map<string, { x: number; width: number }>([
      ...(layout?.sites ?? []).map((s) => [`site ${s.site}`, s] as const),
      ...(layout?.devices ?? []).map((d) => [d.id, d] as const),
    ]),
  );
  /** A line leaves on the side where its other end is; two above each other are joined on the left. */
  const sides = (source: string, target: string) => {
    const [a, b] = [places.get(source)!, places.get(target)!];
    if (b.x >= a.x + a.width) return { sourceHandle: 'from-right', targetHandle: 'to-left' };
    if (b.x + b.width <= a.x) return { sourceHandle: 'from-left', targetHandle: 'to-right' };
    // In the gap beside the sites, each in a lane of its own.
    const lane = 18 + 5 * ([...(source + target)].reduce((sum, c) => sum + c.charCodeAt(0), 0) % 3);
    return { sourceHandle: 'from-left', targetHandle: 'to-left', type: 'smoothstep', pathOptions: { offset: lane, borderRadius: 6 } };
  };
  /** Every line that is drawn, by its ends. */
  const wires = $derived.by((): (Line & { readonly id: string; readonly of: readonly [string, string]; readonly bundled: boolean })[] => {
    if (!map || !layout) return [];
    const endOf = (id: string): string => (drawn.has(id) ? id : `site ${siteOf.get(id)}`);
    const fed = new Set(map.feeds.map((f) => `${f.from.device}|${f.to.device}`));
    const seen = new Set<string>();
    const made: (Line & { id: string; of: readonly [string, string]; bundled: boolean })[] = [];
    const put = (id: string, from: string, to: string, how: Omit<Line, 'a' | 'b'> & { bundled: boolean }) => {
      const [a, b] = [endOf(from), endOf(to)];
      if (a === b) return;
      // Between folded sites one line stands for all.
      const key = a.startsWith('site ') || b.startsWith('site ') ? `${a}|${b}` : id;
      if (seen.has(key)) return;
      seen.add(key);
      made.push({ id, a, b, of: [from, to], ...how });
    };
    for (const [i, l] of map.links.entries()) {
      const powered = showPower && (fed.has(`${l.a.device}|${l.b.device}`) || fed.has(`${l.b.device}|${l.a.device}`));
      put(`l${i}`, l.a.device, l.b.device, { medium: l.medium, suggested: l.sure === 'suggested', powered, bundled: l.bundled > 1 });
    }
    if (showPower) {
      const linked = new Set(map.links.flatMap((l) => [`${l.a.device}|${l.b.device}`, `${l.b.device}|${l.a.device}`]));
      for (const [i, f] of map.feeds.entries())
        if (!linked.has(`${f.from.device}|${f.to.device}`))
          put(`f${i}`, f.from.device, f.to.device, { medium: 'feed', suggested: f.sure === 'suggested', powered: false, bundled: false });
    }
    return made;
  });
  const edges = $derived(
    painted
      ? []
      : wires.map(({ id, a, b, of, medium, suggested, powered, bundled }): Edge => {
          const on = looked !== null && of.includes(looked);
          const words = { [medium]: true, suggested, powered, bundled, on, off: looked !== null && !on };
          return {
            id,
            source: a,
            target: b,
            type: 'default',
            ...sides(a, b),
            focusable: false,
            selectable: false,
            class: Object.entries(words)
              .flatMap(([word, is]) => (is ? [word] : []))
              .join(' '),
            zIndex: on ? 5 : 0,
          };
        }),
  );
  /** How each device looks now; another function whenever any of them looks otherwise. */
  const looks = $derived.by(() => {
    const [beside, word, at, known] = [near, search, looked, byId];
    return (id: string): Look => {
      const d = known.get(id)!;
      const found = word === '' || [d.name, d.address, d.model, d.firmware].some((t) => t?.toLowerCase().includes(word));
      return {
        dim: (beside !== null && !beside.has(id)) || !found,
        chosen: id === at || (word !== '' && found),
        flagged: d.flagged,
        alone: d.noUplink,
      };
    };
  });

  /** The card stands where it hides neither the device nor most of its neighbours. */
  const cardLeft = $derived.by(() => {
    const place = looked === null ? undefined : places.get(looked);
    const right = Math.max(0, ...(layout?.sites ?? []).map((s) => s.x + s.width));
    return place !== undefined && place.x > right / 2;
  });
  const shown = $derived(looked === null ? null : (byId.get(looked) ?? null));
  const shownLinks = $derived.by(() => {
    if (!map || !looked) return [];
    return map.links
      .filter((l) => l.a.device === looked || l.b.device === looked)
      .map((l) => {
        const [here, there] = l.a.device === looked ? [l.a, l.b] : [l.b, l.a];
        return { here, there, l, kind: byId.get(there.device)!.kind };
      });
  });
  const shownFeeds = $derived(map && looked ? map.feeds.filter((f) => f.to.device === looked) : []);
  const noFeed = $derived((map?.devices ?? []).filter((d) => d.noFeed).length);
  const noUplink = $derived((map?.devices ?? []).filter((d) => d.noUplink));
</script>

<div class="head">
  <h1>Map</h1>
  <input class="input" type="search" placeholder="Find on the map…" aria-label="Find on the map" bind:value={wanted} />
  <label class="check"><input class="checkbox" type="checkbox" bind:checked={showPower} /> power</label>
  <button
    class="btn preset-outlined-surface-300-700"
    onclick={() => {
      focus = null;
      folded = new Set(folded?.size ? [] : (map?.devices ?? []).map((d) => d.site));
    }}>{folded?.size ? 'Draw all sites' : 'Fold all sites'}</button
  >
  <button
    class="btn preset-outlined-surface-300-700"
    aria-pressed={view.value === 'table'}
    onclick={() => (view.value = view.value === 'table' ? '' : 'table')}>As a table</button
  >
  <span class="legend quiet" role="img" aria-label="Legend: wired, wireless, only suggested, carries power, outlet">
    <svg width="26" height="8" aria-hidden="true"><path class="wired named" d="M1 4h24" /></svg> wired
    <svg width="26" height="8" aria-hidden="true"><path class="wireless named" d="M1 4h24" /></svg> wireless
    <svg width="26" height="8" aria-hidden="true"><path class="wired suggested" d="M1 4h24" /></svg> only suggested
    <svg width="26" height="8" aria-hidden="true"><path class="wired powered" d="M1 4h24" /></svg> carries power
    <svg width="26" height="8" aria-hidden="true"><path class="feed" d="M1 4h24" /></svg> outlet
  </span>
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if map && map.devices.length === 0}
  <div class="sheet">
    <Empty title="Nothing to draw yet">The map is drawn from what a discovery finds. <a class="anchor" href="/discovery">Discover</a></Empty
    >
  </div>
{:else if map && view.value === 'table'}
  <VirtualTable rows={lines} label="Links and feeds" columns={6} maxHeight="calc(100vh - 9rem)">
    {#snippet head()}
      <tr><th>From</th><th>Its port</th><th>To</th><th>Its port</th><th>What it is</th><th>How sure</th></tr>
    {/snippet}
    {#snippet row(l)}
      <td class="name">{l.from}</td>
      <td class="mono">{l.fromPort || '–'}</td>
      <td class="name">{l.to}</td>
      <td class="mono">{l.toPort || '–'}</td>
      <td>{l.what}</td>
      <td class="quiet">{l.sure}</td>
    {/snippet}
  </VirtualTable>
  <p class="quiet foot" role="status">{lines.length} lines</p>
{:else if layout}
  <div class="sheet canvas" bind:clientWidth={width} bind:clientHeight={height}>
    {#if painted}<MapCanvas
        {layout}
        lines={wires}
        {looks}
        label="Map of {layout.devices.length} devices at {layout.sites.length} sites"
        onlook={look}
        onopen={(id) => goTo(`/devices/${id}`)}
        onfold={fold}
      />{:else}{#key `${focus} ${folded?.size}`}<SvelteFlow
          {nodes}
          {edges}
          nodeTypes={{ device: MapDevice, site: MapSite }}
          fitView
          fitViewOptions={{
            padding: { left: '26px', right: '10px', top: '8px', bottom: '8px' },
            maxZoom: 1.3,
            ...(focus === null ? {} : { nodes: [{ id: `site ${focus}` }] }),
          }}
          minZoom={0.1}
          maxZoom={2.5}
          nodesConnectable={false}
          elementsSelectable={false}
          colorMode={mode.now}
          proOptions={{ hideAttribution: true }}
        >
          <Controls showLock={false} position="bottom-left" />
        </SvelteFlow>{/key}{/if}
    {#if shown}
      <aside class="sheet card" class:left={cardLeft} aria-live="polite">
        <h2><KindIcon kind={shown.kind} />{shown.name}</h2>
        <p class="quiet">
          {[
            shown.kind,
            shown.model,
            shown.firmware ?? 'version unknown',
            shown.address ?? `through ${byId.get(shown.parent ?? '')?.name ?? 'nobody'}`,
          ]
            .filter(Boolean)
            .join(' · ')}
        </p>
        {#if shownLinks.length > 0}
          <table>
            <tbody>
              {#each shownLinks.slice(0, 14) as { here, there, l }, nth (nth)}
                <tr>
                  <td class="mono">{here.port ?? '–'}</td>
                  <td>{there.name}{there.port ? ` ${there.port}` : ''}</td>
                  <td class="quiet"
                    >{[
                      l.speedMbps === null ? '' : l.speedMbps >= 1000 ? `${l.speedMbps / 1000} G` : `${l.speedMbps} M`,
                      l.medium === 'wireless' ? 'wireless' : '',
                      l.bundled > 1 ? `${l.bundled} bundled` : '',
                      l.sure,
                    ]
                      .filter(Boolean)
                      .join(', ')}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
          {#if shownLinks.length > 14}<p class="quiet">and {shownLinks.length - 14} more</p>{/if}
        {:else}<p class="care">What it hangs on is not known.</p>{/if}
        {#if shown.console}<p>Console at {shown.console.name} {shown.console.port ?? ''}</p>{/if}
        {#if shown.gives}<p>Gives {shown.gives}</p>{/if}
        {#if map?.contacts[shown.site]}<p>At {shown.site}: {map.contacts[shown.site]}</p>{/if}
        <p class="quiet">
          {shownFeeds.length > 0
            ? `Power from ${shownFeeds.map((f) => `${f.from.name}${f.from.port ? ` ${f.from.port}` : ''} (${f.sure})`).join(' and ')}.`
            : 'What feeds it is not known.'}
        </p>
      </aside>
    {/if}
  </div>
  <p class="quiet foot">
    {map!.devices.length} devices, {map!.links.length} links, {map!.feeds.length} feeds.
    {#if noUplink.length > 0}Hanging on nothing known: {noUplink
        .slice(0, 5)
        .map((d) => d.name)
        .join(', ')}{noUplink.length > 5 ? '…' : ''}.{/if}
    {#if noFeed > 0}Of {noFeed} nobody told what feeds them.{/if}
    {#if map!.strangers.length > 0}{map!.strangers.length} neighbours are named that are not in the records.{/if}
  </p>
{:else if !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

<style>
  .head {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    margin-bottom: 0.6rem;
    flex-wrap: wrap;
  }
  .head input[type='search'] {
    width: min(13rem, 100%);
    height: 2.125rem;
    background: var(--sheet);
  }
  .check,
  .legend {
    display: inline-flex;
    align-items: center;
    gap: 0.35rem;
  }
  .legend {
    margin-left: auto;
    flex-wrap: wrap;
    font-size: 0.8125rem;
  }
  .legend svg {
    margin-left: 0.5rem;
  }
  .canvas {
    position: relative;
    height: calc(100vh - 9.6rem);
    min-height: 24rem;
    overflow: hidden;
  }
  .canvas :global(.svelte-flow) {
    --xy-background-color: transparent;
    background: transparent;
  }
  .canvas :global(.svelte-flow__node) {
    cursor: default;
  }
  .canvas :global(.svelte-flow__node-site) {
    pointer-events: none !important;
  }
  .canvas :global(.svelte-flow__edge path.svelte-flow__edge-path),
  .legend path {
    stroke: var(--quiet);
    stroke-width: 1.2;
    fill: none;
  }
  .canvas :global(.svelte-flow__edge.bundled path.svelte-flow__edge-path) {
    stroke-width: 3;
  }
  .canvas :global(.svelte-flow__edge.powered path.svelte-flow__edge-path),
  .legend path.powered {
    stroke: var(--care);
    stroke-width: 1.6;
  }
  .canvas :global(.svelte-flow__edge.feed path.svelte-flow__edge-path),
  .legend path.feed {
    stroke: var(--care);
    stroke-width: 1;
    stroke-dasharray: 6 2 1 2;
    opacity: 0.8;
  }
  .canvas :global(.svelte-flow__edge.suggested path.svelte-flow__edge-path),
  .legend path.suggested {
    stroke-dasharray: 1.5 3;
    stroke-linecap: round;
  }
  .canvas :global(.svelte-flow__edge.wireless path.svelte-flow__edge-path),
  .legend path.wireless {
    stroke-dasharray: 7 4;
    stroke: var(--now);
  }
  .canvas :global(.svelte-flow__edge.off path.svelte-flow__edge-path) {
    opacity: 0.15;
  }
  .canvas :global(.svelte-flow__edge.on path.svelte-flow__edge-path) {
    stroke-width: 2.4;
  }
  .card {
    position: absolute;
    right: 0.75rem;
    bottom: 0.75rem;
    width: min(25rem, 100%);
    max-height: calc(100% - 1.5rem);
    overflow: auto;
    padding: 0.7rem 0.9rem;
    box-shadow: 0 8px 24px #0003;
    pointer-events: none;
    font-size: 0.8125rem;
  }
  .card.left {
    right: auto;
    left: 3.5rem;
  }
  .card h2 {
    display: flex;
    align-items: center;
    gap: 0.4rem;
    font-weight: 650;
    font-size: 0.9375rem;
  }
  .card table {
    width: 100%;
    margin-block: 0.4rem;
  }
  .card td {
    padding: 0.06rem 0.5rem 0.06rem 0;
    vertical-align: top;
  }
  .card td:first-child {
    white-space: nowrap;
  }
  .care {
    color: var(--care);
  }
  .foot {
    margin-top: 0.4rem;
  }
</style>
