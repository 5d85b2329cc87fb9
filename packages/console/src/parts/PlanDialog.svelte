<script lang="ts">
  import { count } from '../lib/format.js';
  import FormDialog from './FormDialog.svelte';
  import { client } from '../lib/session.svelte.js';

  let {
    size,
    ids,
    onclose,
    onplanned,
  }: {
    /** How many devices are meant. */
    size: number;
    ids: () => readonly string[] | Promise<readonly string[]>;
    onclose: () => void;
    onplanned: (id: string) => void;
  } = $props();

  let name = $state('');
  let first = $state(1);
  let atOnce = $state(4);
  let apartMinutes = $state(0);
  let soakMinutes = $state(10);
  let failureLimit = $state(1);
  let approval = $state(false);
  let unsaved = $state<'hold' | 'save'>('hold');
  let wayBack = $state(false);
  let level = $state(false);
  let from = $state('');
  let to = $state('');
  async function plan() {
    const made = await client().plan({
      name: name.trim() || undefined,
      devices: [...(await ids())],
      first,
      atOnce,
      apartSeconds: Math.round(apartMinutes * 60),
      soakSeconds: Math.round(soakMinutes * 60),
      failureLimit,
      approval,
      unsaved,
      wayBack,
      level,
      window: from && to ? { from, to } : null,
    });
    onplanned(made.id);
  }
</script>

<FormDialog
  title="Plan a rollout of {count(size, 'device')}"
  about="Nothing begins by planning. You read the plan, then start it."
  word="Make the plan"
  {onclose}
  send={plan}
>
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
    <label class="label"
      ><span class="label-text">Minutes apart at one site</span><input
        class="input"
        type="number"
        min="0"
        max="1440"
        step="any"
        bind:value={apartMinutes}
        required
      /></label
    >
  </div>
  <div class="pair">
    <label class="label"
      ><span class="label-text">Devices go down only from</span><input
        class="input"
        type="time"
        bind:value={from}
        required={to !== ''}
      /></label
    >
    <label class="label"
      ><span class="label-text">until (empty: at any time)</span><input
        class="input"
        type="time"
        bind:value={to}
        required={from !== ''}
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
    ><input class="checkbox" type="checkbox" bind:checked={wayBack} /> Take a device that fails past its point of no return back to what it ran</label
  >
  <label class="check"
    ><input class="checkbox" type="checkbox" bind:checked={level} /> After the soak look at each device again, and bring its other copy to the
    same version</label
  >
  <label class="check"
    ><input class="checkbox" type="checkbox" bind:checked={approval} /> Wait for a person's word after the first wave</label
  >
</FormDialog>

<style>
  .check {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .check input {
    flex: none;
  }
</style>
