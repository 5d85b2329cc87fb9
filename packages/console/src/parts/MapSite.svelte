<script lang="ts">
  import { Handle, Position } from '@xyflow/svelte';
  import type { Kind } from '@barrow/core';
  import KindIcon from './KindIcon.svelte';

  let {
    data,
  }: {
    data: { site: string; devices: number; folded: readonly { kind: Kind; count: number }[] | null; fold: (site: string) => void };
  } = $props();
</script>

<div class="site" class:folded={data.folded !== null}>
  {#if data.folded}<Handle type="target" id="to-left" position={Position.Left} isConnectable={false} /><Handle
      type="source"
      id="from-left"
      position={Position.Left}
      isConnectable={false}
    />{/if}
  <button
    class="nodrag"
    onclick={() => data.fold(data.site)}
    aria-expanded={data.folded === null}
    title={data.folded ? 'Draw its devices' : 'Fold it up'}
  >
    <span aria-hidden="true">{data.folded ? '▸' : '▾'}</span>{data.site}<i>{data.devices}</i>
  </button>
  {#if data.folded}
    <ul>
      {#each data.folded.slice(0, 8) as { kind, count } (kind)}<li><KindIcon {kind} size={13} />{count} {kind}</li>{/each}
    </ul>
    <Handle type="source" id="from-right" position={Position.Right} isConnectable={false} /><Handle
      type="target"
      id="to-right"
      position={Position.Right}
      isConnectable={false}
    />
  {/if}
</div>

<style>
  .site {
    width: 100%;
    height: 100%;
    border: 1px solid var(--line);
    border-radius: 6px;
    background: color-mix(in oklab, var(--ground) 70%, transparent);
  }
  .site.folded {
    background: var(--sheet);
  }
  button {
    display: flex;
    gap: 0.35rem;
    align-items: center;
    padding: 3px 8px;
    font-weight: 650;
    font-size: 12px;
    pointer-events: all;
    cursor: pointer;
  }
  i {
    font-style: normal;
    font-weight: 400;
    color: var(--quiet);
  }
  ul {
    padding: 2px 10px;
    font-size: 11.5px;
    columns: 1;
  }
  li {
    display: flex;
    align-items: center;
    gap: 5px;
    height: 16px;
    color: var(--ink);
  }
  li :global(svg) {
    color: var(--quiet);
  }
</style>
