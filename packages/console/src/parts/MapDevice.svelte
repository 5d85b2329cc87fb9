<script lang="ts">
  import { Handle, Position } from '@xyflow/svelte';
  import type { Kind } from '@barrow/core';
  import KindIcon from './KindIcon.svelte';

  let {
    data,
  }: {
    data: {
      id: string;
      name: string;
      short: string;
      kind: Kind;
      flagged: boolean;
      noUplink: boolean;
      dim: boolean;
      chosen: boolean;
      look: (id: string | null) => void;
    };
  } = $props();
</script>

<Handle type="target" id="to-left" position={Position.Left} isConnectable={false} /><Handle
  type="source"
  id="from-left"
  position={Position.Left}
  isConnectable={false}
/>
<a
  class="node nodrag"
  class:dim={data.dim}
  class:chosen={data.chosen}
  class:flagged={data.flagged}
  class:alone={data.noUplink}
  href="/devices/{data.id}"
  aria-label="{data.name}, {data.kind}{data.noUplink ? ', uplink not known' : ''}{data.flagged ? ', flagged' : ''}"
  onmouseenter={() => data.look(data.id)}
  onmouseleave={() => data.look(null)}
  onfocus={() => data.look(data.id)}
  onblur={() => data.look(null)}
>
  <KindIcon kind={data.kind} size={13} /><span>{data.short}</span>{#if data.flagged}<b aria-hidden="true">!</b>{/if}
</a>
<Handle type="source" id="from-right" position={Position.Right} isConnectable={false} /><Handle
  type="target"
  id="to-right"
  position={Position.Right}
  isConnectable={false}
/>

<style>
  .node {
    display: flex;
    align-items: center;
    gap: 5px;
    width: 100%;
    height: 100%;
    padding: 0 6px;
    font-size: 11.5px;
    line-height: 1;
    border: 1px solid var(--line);
    border-radius: 4px;
    background: var(--sheet);
    color: var(--ink);
    text-decoration: none;
    cursor: pointer;
  }
  .node span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .node :global(svg) {
    color: var(--quiet);
    flex: none;
  }
  .node.alone {
    border-style: dashed;
    border-color: var(--care);
  }
  .node.flagged {
    border-color: var(--bad);
  }
  b {
    color: var(--bad);
    margin-left: auto;
  }
  .node.chosen {
    border-color: var(--now);
    box-shadow: 0 0 0 1px var(--now);
  }
  .node.dim {
    opacity: 0.35;
  }
  :global(.svelte-flow__handle) {
    visibility: hidden;
    pointer-events: none;
  }
</style>
