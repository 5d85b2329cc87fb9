<script lang="ts">
  import type { Device, SwappedView } from '@barrow/core';
  import Difference from './Difference.svelte';
  import FormDialog from './FormDialog.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client } from '../lib/session.svelte.js';
  import Trouble from './Trouble.svelte';

  let { device, onclose, ondone }: { device: Device; onclose: () => void; ondone: (what: string) => void } = $props();

  const alike = new Loaded(() => client().devices({ family: device.family ?? '' }), ['devices']);
  const spares = $derived(
    (alike.value ?? []).filter((d) => d.id !== device.id && d.model === device.model && d.serial !== null && d.address !== null),
  );
  let spare = $state('');
  let look = $state.raw<SwappedView | null>(null);

  /** Nothing was done yet: the dialog goes on. */
  const onlyLooked = new Error('only looked');
  async function send() {
    if (look === null) {
      look = await client().swapDevice(device.id, { spare, look: true });
      throw onlyLooked;
    }
    const { same, spareSerial, refused, lines } = await client().swapDevice(device.id, { spare, backup: look.backup, look: false });
    ondone(
      `It is serial ${spareSerial ?? 'unknown'} now.${same ? '' : ` It did not take all of its settings: ${[...refused, ...lines].slice(0, 5).join('; ')}`}`,
    );
  }
</script>

<FormDialog
  title="Put a spare in the place of {device.name}"
  about="The spare gets the settings that were saved last of it, is restarted, answers at {device.address}, and is {device.name} from then on. The device itself has to be off the network."
  word={look === null ? 'Look what would change' : 'Swap them'}
  {onclose}
  {send}
  stays={(error) => error === onlyLooked}
>
  {#if alike.failure}<Trouble failure={alike.failure} />{/if}
  <label class="label"
    ><span class="label-text">Spare</span>
    <select class="select" bind:value={spare} required disabled={look !== null}>
      <option value="" disabled>{spares.length === 0 ? `No other ${device.model ?? 'device of its model'} is known` : 'Choose one'}</option>
      {#each spares as one (one.id)}<option value={one.id}
          >{one.name}, serial {one.serial}, on {one.firmware ?? 'an unknown version'}</option
        >{/each}
    </select></label
  >
  {#if look}
    <p class="quiet">
      {look.same ? 'It has these settings already.' : `${look.removed} lines of its settings go, ${look.added} come.`}
    </p>
    <Difference lines={look.lines} cut={look.cut} />
  {/if}
</FormDialog>
