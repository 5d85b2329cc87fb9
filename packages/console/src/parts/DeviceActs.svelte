<script lang="ts">
  import type { DeviceName } from '@barrow/core';
  import FormDialog from './FormDialog.svelte';
  import PlanDialog from './PlanDialog.svelte';
  import { count } from '../lib/format.js';
  import { forEach, type DoneForEach } from '../lib/each.js';
  import { goTo } from '../lib/place.js';
  import { client } from '../lib/session.svelte.js';
  import { undo } from '../lib/undo.svelte.js';

  let { devices, onclear }: { devices: DeviceName[]; onclear: () => void } = $props();

  let open = $state<'plan' | 'pin' | 'tag' | null>(null);
  let busy = $state<string | null>(null);
  let result = $state.raw<(DoneForEach & { word: string }) | null>(null);
  let reason = $state('');
  let askAgain = $state('');
  let tag = $state('');
  let remove = $state(false);

  /** So many fit into an address. */
  const mostStaged = 200;
  const some = $derived(count(devices.length, 'device'));

  async function all(word: string, doing: string, work: (d: DeviceName) => Promise<unknown>) {
    const { length } = devices;
    busy = `${doing} ${length}…`;
    result = null;
    result = { word, ...(await forEach(devices, work, (n) => (busy = `${doing}: ${n} of ${length}`))) };
    busy = null;
  }
  /** Those that change by it can be changed back; who had it before keeps it. */
  async function setTag(word: string, away: boolean) {
    const had = new Set((await client().deviceNames({ tag: word })).map((d) => d.id));
    const change = (off: boolean) => (d: DeviceName) => client().setDevice(d.id, off ? { removeTags: [word] } : { addTags: [word] });
    await all(away ? 'without it' : 'tagged', 'Tagging', change(away));
    const failed = new Set(result?.failed.map((f) => f.name));
    const changed = devices.filter((d) => had.has(d.id) === away && !failed.has(d.name));
    if (changed.length > 0)
      undo.did(`${count(changed.length, 'device')} ${away ? 'lost' : 'got'} the tag ${word}.`, async () => {
        const back = await forEach(changed, change(!away));
        if (back.failed.length > 0) throw new Error(back.failed.map((f) => `${f.name}: ${f.why}`).join('; '));
      });
  }
  async function lookAgain() {
    const networks = [...new Set(devices.map((d) => d.network))].filter((n) => n !== '');
    await client().discover(networks);
    goTo('/discovery');
  }
</script>

<div class="acts" role="group" aria-label="With the chosen devices">
  <b>{some} chosen</b>
  <button class="btn preset-filled-primary-600-400" onclick={() => (open = 'plan')}>Plan a rollout of {devices.length}</button>
  <a
    class="btn preset-outlined-surface-300-700"
    href={devices.length > mostStaged ? undefined : `/staging?devices=${encodeURIComponent(devices.map((d) => d.name).join(' '))}`}
    aria-disabled={devices.length > mostStaged}
    title={devices.length > mostStaged ? `At most ${mostStaged} at a time` : undefined}>Stage</a
  >
  <button class="btn preset-outlined-surface-300-700" onclick={() => (open = 'pin')}>Pin</button>
  <button class="btn preset-outlined-surface-300-700" onclick={() => (open = 'tag')}>Tag</button>
  <button
    class="btn preset-outlined-surface-300-700"
    disabled={busy !== null}
    onclick={() => all('backed up', 'Backing up', (d) => client().takeBackup(d.id))}>Back up</button
  >
  <button
    class="btn preset-outlined-surface-300-700"
    disabled={busy !== null}
    onclick={() => all('blinking', 'Asking', (d) => client().locate(d.id, 30))}>Blink</button
  >
  <button class="btn preset-outlined-surface-300-700" onclick={lookAgain} title="Discovers the networks that they are in">Look again</button
  >
  <button class="btn" onclick={onclear}>Choose none</button>
  <span class="quiet" role="status"
    >{busy ??
      (result
        ? `${count(result.done, 'device')} ${result.word}${result.failed.length > 0 ? `, ${result.failed.length} not` : ''}.`
        : '')}</span
  >
</div>
{#if result && result.failed.length > 0}
  <ul class="failed sheet">
    {#each result.failed.slice(0, 20) as f, nth (nth)}<li><b>{f.name}</b> {f.why}</li>{/each}
    {#if result.failed.length > 20}<li>and {result.failed.length - 20} more</li>{/if}
  </ul>
{/if}

{#if open === 'plan'}
  <PlanDialog
    size={devices.length}
    ids={() => devices.map((d) => d.id)}
    onclose={() => (open = null)}
    onplanned={(id) => (onclear(), goTo(`/rollouts/${encodeURIComponent(id)}`))}
  />
{:else if open === 'pin'}
  <FormDialog
    title="Pin {some}"
    about="Each stays at the version that it runs: no plan takes it, and one that is under way leaves it out."
    word="Pin"
    onclose={() => (open = null)}
    send={async () => {
      await all('pinned', 'Pinning', (d) => client().setPin({ device: d.id, reason: reason.trim(), askAgain }));
      reason = '';
    }}
  >
    <label class="label"><span class="label-text">Why</span><input class="input" bind:value={reason} required maxlength="300" /></label>
    <label class="label"
      ><span class="label-text">Ask again on</span><input class="input" type="date" bind:value={askAgain} required /></label
    >
  </FormDialog>
{:else if open === 'tag'}
  <FormDialog
    title="Tag {some}"
    about="Plans, targets and lists can be narrowed to a tag."
    word={remove ? 'Take the tag away' : 'Set the tag'}
    onclose={() => (open = null)}
    send={async () => {
      await setTag(tag.trim(), remove);
      tag = '';
    }}
  >
    <label class="label"><span class="label-text">Tag</span><input class="input" bind:value={tag} required maxlength="40" /></label>
    <label class="check"><input class="checkbox" type="checkbox" bind:checked={remove} /> Take it away instead</label>
  </FormDialog>
{/if}

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.45rem;
    margin-bottom: 0.6rem;
  }
  .acts .btn {
    height: 1.9rem;
  }
  .failed {
    margin-bottom: 0.6rem;
    padding: 0.5rem 0.9rem;
  }
  .check {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
</style>
