<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';
  import type { Device } from '@barrow/core';
  import Trouble from './Trouble.svelte';
  import { client, failureOf, type Failure } from '../lib/session.svelte.js';

  let { devices, onclose, onplanned }: { devices: Device[]; onclose: () => void; onplanned: (id: string) => void } = $props();

  let name = $state('');
  let first = $state(1);
  let atOnce = $state(4);
  let soakMinutes = $state(10);
  let failureLimit = $state(1);
  let approval = $state(false);
  let unsaved = $state<'hold' | 'save'>('hold');
  let busy = $state(false);
  let failure = $state<Failure | null>(null);

  async function plan(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    failure = null;
    try {
      const made = await client().plan({
        name: name.trim() || undefined,
        devices: devices.map((d) => d.id),
        first,
        atOnce,
        soakSeconds: Math.round(soakMinutes * 60),
        failureLimit,
        approval,
        unsaved,
      });
      onplanned(made.id);
    } catch (error) {
      failure = failureOf(error);
      busy = false;
    }
  }
</script>

<Dialog open onOpenChange={(d) => !d.open && onclose()}>
  <Portal>
    <Dialog.Backdrop class="fixed inset-0 z-40 bg-surface-950/40" />
    <Dialog.Positioner class="fixed inset-0 z-50 grid place-items-center p-4">
      <Dialog.Content class="plan-dialog sheet">
        <form onsubmit={plan}>
          <Dialog.Title class="text-lg font-semibold"
            >Plan a rollout of {devices.length} {devices.length === 1 ? 'device' : 'devices'}</Dialog.Title
          >
          <Dialog.Description class="quiet">Nothing begins by planning. You read the plan, then start it.</Dialog.Description>
          <label class="label"
            ><span class="label-text">Name</span><input
              class="input"
              bind:value={name}
              placeholder="made from the devices and versions when empty"
            /></label
          >
          <div class="pair">
            <label class="label"
              ><span class="label-text">Devices that go first</span><input
                class="input"
                type="number"
                min="0"
                max="1000"
                bind:value={first}
                required
              /></label
            >
            <label class="label"
              ><span class="label-text">Then at most at once</span><input
                class="input"
                type="number"
                min="1"
                max="1000"
                bind:value={atOnce}
                required
              /></label
            >
            <label class="label"
              ><span class="label-text">Soak after the first, minutes</span><input
                class="input"
                type="number"
                min="0"
                step="any"
                bind:value={soakMinutes}
                required
              /></label
            >
            <label class="label"
              ><span class="label-text">Failures that hold it</span><input
                class="input"
                type="number"
                min="1"
                bind:value={failureLimit}
                required
              /></label
            >
          </div>
          <label class="label">
            <span class="label-text">Settings on a device that nobody saved</span>
            <select class="select" bind:value={unsaved}>
              <option value="hold">leave that device out and show them</option>
              <option value="save">save them, then go on</option>
            </select>
          </label>
          <label class="check"
            ><input class="checkbox" type="checkbox" bind:checked={approval} /> Wait for a person's word after the first wave</label
          >
          {#if failure}<Trouble {failure} />{/if}
          <div class="buttons">
            <button type="button" class="btn preset-outlined-surface-300-700" onclick={onclose}>Leave</button>
            <button class="btn preset-filled-primary-600-400" disabled={busy}>{busy ? 'Planning…' : 'Make the plan'}</button>
          </div>
        </form>
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>

<style>
  :global(.plan-dialog) {
    width: 34rem;
    max-width: 100%;
    padding: 1.25rem 1.5rem;
    box-shadow: 0 20px 50px #0004;
  }
  form {
    display: grid;
    gap: 0.9rem;
  }
  .pair {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.9rem;
  }
  .check {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .buttons {
    display: flex;
    justify-content: flex-end;
    gap: 0.6rem;
  }
</style>
