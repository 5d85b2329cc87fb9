<script lang="ts">
  import type { RehearsalView, Rollout } from '@barrow/core';
  import { duration, totalsOf } from '../lib/format.js';
  import { client, failureOf } from '../lib/session.svelte.js';

  /** What would follow if one device failed: played by the rules that the runner obeys. */
  let { rollout, usual }: { rollout: Rollout; usual: RehearsalView | null } = $props();

  let device = $state('');
  let step = $state('');
  let goesOn = $state(false);
  let played = $state.raw<RehearsalView | null>(null);
  let refused = $state('');
  const run = $derived(rollout.runs.find((r) => r.id === device));
  const steps = $derived([...new Set((run ? rollout.passages[run.passage]!.steps : []).map((s) => s.step))]);
  $effect(() => {
    if (!run) return;
    const asked = { id: rollout.id, fails: `${run.id}${steps.includes(step) ? `@${step}` : ''}`, goesOn };
    let gone = false;
    client()
      .rehearsal(asked.id, [asked.fails], asked.goesOn)
      .then((found) => {
        if (!gone) [played, refused] = [found, ''];
      })
      .catch((error: unknown) => (refused = failureOf(error).why));
    return () => (gone = true);
  });
  const after = (moment: string): string => duration(Math.max(0, Date.parse(moment) - Date.parse(played!.beginsAt)));
  const failed = $derived(played?.runs.find((r) => r.run === device));
  const lines = $derived.by((): string[] => {
    if (!played || !run) return [];
    return [
      ...(failed?.rungs.length
        ? [
            `${run.name} is ${failed.rungs.join(', then ')}, ${failed.outcome === null ? 'and comes to no end before it is held' : `and ends ${failed.outcome}`}.`,
          ]
        : []),
      ...played.holds.map((h) => `Held after ${after(h.at)}: ${h.because}.`),
      played.stuck === null
        ? `It ends after ${duration(played.totalMs)}${usual ? `, instead of ${duration(usual.totalMs)}` : ''}: ${totalsOf(played)}.`
        : `It stands there until a person says more: ${totalsOf(played)}.`,
    ];
  });
</script>

<div class="asks">
  <select class="select" aria-label="What if this device fails" bind:value={device}>
    <option value="">nothing fails</option>
    {#each rollout.runs as r (r.id)}<option value={r.id}>{r.name} fails</option>{/each}
  </select>
  {#if run}
    <select class="select" aria-label="At which step" bind:value={step}>
      <option value="">at its return</option>
      {#each steps as s (s)}<option value={s}>at {s}</option>{/each}
    </select>
    <label class="goes"><input class="checkbox" type="checkbox" bind:checked={goesOn} /> and a person has it go on</label>
  {/if}
</div>
<div role="status">
  {#if refused}<p class="bad">{refused}</p>{:else}{#each lines as line, nth (nth)}<p>{line}</p>{/each}{/if}
</div>

<style>
  .asks {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
  }
  .select {
    width: auto;
    height: 1.9rem;
    padding-block: 0;
    font-size: 0.875rem;
    background-color: var(--sheet);
  }
  .goes {
    display: inline-flex;
    gap: 0.4rem;
    align-items: center;
  }
  .bad {
    color: var(--bad);
  }
</style>
