<script lang="ts">
  import { count } from '../lib/format.js';
  import FormDialog from './FormDialog.svelte';
  import { client } from '../lib/session.svelte.js';

  let {
    size,
    ids,
    called = '',
    backFrom = null,
    onclose,
    onplanned,
  }: {
    /** How many devices are meant. */
    size: number;
    ids: () => readonly string[] | Promise<readonly string[]>;
    /** What it is called at first. */
    called?: string;
    /** The rollout whose verified devices go back to what they ran before it. */
    backFrom?: string | null;
    onclose: () => void;
    onplanned: (id: string) => void;
  } = $props();

  // svelte-ignore state_referenced_locally
  let name = $state(called);
  /** Empty: one of each family and model. */
  let first = $state<number | null>(null);
  let byHand = $state('');
  let by = $state<'' | 'site' | 'kind' | 'family' | 'shares'>('');
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
  /** Waves as they are written, one on a line: `NAME: DEVICE, DEVICE`. */
  const named = $derived(
    byHand
      .split('\n')
      .map((line) => line.trim())
      .filter((line) => line !== '')
      .map((line) => {
        const at = line.indexOf(':');
        const devices = line.slice(at + 1).split(',');
        return { name: line.slice(0, Math.max(0, at)).trim(), devices: devices.map((d) => d.trim()).filter((d) => d !== '') };
      }),
  );
  const unread = $derived(named.find((w) => w.name === '' || w.devices.length === 0));
  async function plan() {
    const made = await client().plan({
      name: name.trim() || undefined,
      devices: [...(await ids())],
      ...(first === null ? {} : { first }),
      waves: named,
      by: by === '' ? null : by === 'shares' ? [10, 30] : by,
      atOnce,
      apartSeconds: Math.round(apartMinutes * 60),
      soakSeconds: Math.round(soakMinutes * 60),
      failureLimit,
      approval,
      unsaved,
      wayBack,
      level,
      window: from && to ? { from, to } : null,
      backFrom,
    });
    onplanned(made.id);
  }
</script>

<FormDialog
  title={backFrom === null ? `Plan a rollout of ${count(size, 'device')}` : `Plan the way back of ${count(size, 'device')}`}
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
      ><span class="label-text">Pilot devices</span><input
        class="input"
        type="number"
        min="0"
        max="1000"
        bind:value={first}
        placeholder="one of each model"
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
      ><span class="label-text">Soak after a wave, minutes</span><input
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
  <label class="label"
    ><span class="label-text">Waves before all others, one on a line</span><textarea
      class="textarea"
      rows="2"
      bind:value={byHand}
      placeholder="pilot: quay-sw-4, gannet-sw-1"
      aria-describedby={unread ? 'unread-wave' : undefined}></textarea>{#if unread}<span id="unread-wave" class="quiet"
        >A line is the name of the wave, a colon, and its devices with commas between them.</span
      >{/if}</label
  >
  <label class="label">
    <span class="label-text">Those that come after</span>
    <select class="select" bind:value={by}>
      <option value="">go in one wave</option>
      <option value="site">go site by site</option>
      <option value="kind">go kind by kind, what carries most last</option>
      <option value="family">go family by family</option>
      <option value="shares">go by shares: 10 %, 30 %, the rest</option>
    </select>
  </label>
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
    ><input class="checkbox" type="checkbox" bind:checked={approval} /> Wait for a person's word after each wave but the last</label
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
