<script lang="ts">
  import { previewText } from '@barrow/client';
  import { client, failureOf, type Failure } from '../lib/session.svelte.js';
  import { setTargetUndoably } from '../lib/undo.svelte.js';
  import { count } from '../lib/format.js';
  import Trouble from './Trouble.svelte';

  /** Makes the version of an image the target of its family, with what would follow told beside it. */
  let { family, version }: { family: string; version: string } = $props();

  let is = $state.raw<{ already: boolean; devices: number } | null>(null);
  let would = $state.raw<readonly string[]>([]);
  let failure = $state.raw<Failure | null>(null);
  let busy = $state(false);

  async function look() {
    try {
      const [targets, preview] = await Promise.all([client().targets(), client().previewTarget({ family, version })]);
      const whole = targets.find((t) => t.family === family && !t.model && !t.hardwareRevision && !t.site && !t.tag && !t.device);
      is = { already: whole?.version === preview.version, devices: preview.devices };
      would = previewText(preview);
    } catch {
      // A version that cannot be a target: there is nothing to offer.
      is = null;
    }
  }
  $effect(() => {
    void [family, version];
    void look();
  });
  async function set() {
    busy = true;
    try {
      await setTargetUndoably({ family, version });
      failure = null;
      await look();
    } catch (error) {
      failure = failureOf(error);
    }
    busy = false;
  }
</script>

{#if failure}<Trouble {failure} />{/if}
{#if is?.already}
  <p role="status">
    {version} is the target of {count(is.devices, 'device')}. <a class="anchor" href="/?standing=behind">Those that are behind</a>
  </p>
{:else if is && is.devices > 0}
  <p class="offer">
    <button class="btn preset-outlined-surface-300-700" disabled={busy} onclick={set}>Make {version} the target</button>
    <span class="quiet">{would[0]}</span>
  </p>
{/if}

<style>
  .offer {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.6rem;
  }
</style>
