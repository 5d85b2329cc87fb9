<script lang="ts">
  import { stepText, type Rollout, type RunView } from '@barrow/core';
  let { run, steps }: { run: RunView; steps: Rollout['passages'][number]['steps'] } = $props();

  const look = (index: number): string => {
    if (run.outcome === 'verified') return 'done';
    if (run.phase === 'waiting' || run.phase === 'absent') return 'ahead';
    if (index < run.stepIndex) return 'done';
    if (index > run.stepIndex || run.phase === 'parked') return 'ahead';
    if (run.outcome === 'failed' || run.outcome === 'recovered' || run.rung) return 'failed';
    if (run.outcome === 'not-begun') return 'untouched';
    return run.outcome ? 'ahead' : 'now';
  };
  const word = $derived(
    run.outcome === 'verified'
      ? 'all steps done'
      : run.phase === 'waiting' || run.phase === 'absent'
        ? 'not begun'
        : `${run.outcome ? 'ended at' : run.phase === 'parked' ? 'parked before' : run.rung ? 'failed at' : 'at'} step ${run.stepIndex + 1} of ${steps.length}, ${stepText(run)}`,
  );
</script>

<div class="track" role="img" aria-label={word}>
  {#each steps as s, index (index)}
    {#if s.leg !== steps[index - 1]?.leg && index > 0}<em title={run.legs[s.leg]?.to}></em>{/if}
    {#if s.pastReturn && !steps[index - 1]?.pastReturn}<i title="point of no return"></i>{/if}
    <span data-look={look(index)} title="{index + 1} {stepText({ ...run, step: s.step, leg: s.leg, rung: null })}: {s.meaning}">
      {#if look(index) === 'now' && run.percent !== null}<b style:width="{run.percent}%"></b>{/if}
      {#if look(index) === 'failed'}✕{/if}
    </span>
  {/each}
</div>

<style>
  .track {
    display: flex;
    align-items: center;
    gap: 2px;
    height: 0.9rem;
  }
  span {
    position: relative;
    flex: 1;
    height: 0.5rem;
    background: var(--line);
    border-radius: 1px;
    overflow: hidden;
  }
  span[data-look='done'] {
    background: color-mix(in oklab, var(--good) 75%, var(--sheet));
  }
  span[data-look='now'] {
    height: 0.9rem;
    background: color-mix(in oklab, var(--now) 28%, var(--sheet));
    box-shadow: inset 0 0 0 1.5px var(--now);
  }
  span[data-look='failed'] {
    height: 0.9rem;
    background: var(--bad);
    color: var(--sheet);
    font-size: 0.65rem;
    line-height: 0.9rem;
    text-align: center;
    font-weight: 700;
  }
  span[data-look='untouched'] {
    height: 0.9rem;
    background: none;
    box-shadow: inset 0 0 0 1.5px var(--care);
  }
  b {
    position: absolute;
    inset: 0 auto 0 0;
    background: var(--now);
  }
  em {
    width: 3px;
  }
  i {
    width: 2px;
    height: 0.9rem;
    background: var(--care);
    margin: 0 1px;
  }
</style>
