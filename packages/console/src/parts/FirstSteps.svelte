<script lang="ts">
  import { hearChanges } from '../lib/live.svelte.js';
  import { client } from '../lib/session.svelte.js';
  import { count } from '../lib/format.js';

  /** How many devices are known. */
  let { devices }: { devices: number } = $props();

  let has = $state.raw<{ credentials: number; networks: number; images: number; targets: number } | null>(null);
  async function load() {
    const [credentials, networks, images, targets] = await Promise.all([
      client().credentials(),
      client().networks(),
      client().images(),
      client().targets(),
    ]);
    has = { credentials: credentials.length, networks: networks.length, images: images.length, targets: targets.length };
  }
  $effect(() => {
    const quietly = () => void load().catch(() => undefined);
    quietly();
    return hearChanges(['credentials', 'networks', 'images', 'targets'], quietly);
  });

  const steps = $derived(
    has === null
      ? []
      : [
          { n: has.credentials, word: 'credential', what: 'Say how devices are logged in to', href: '/where' },
          { n: has.networks, word: 'network', what: 'Say where to look', href: '/where' },
          { n: devices, word: 'device', what: 'Discover what is there', href: '/discovery' },
          { n: has.images, word: 'image', what: 'Take in the firmware files', href: '/images' },
          { n: has.targets, word: 'target', what: 'Set the version that a family should run', href: '/standing' },
        ],
  );
  const next = $derived(steps.find((s) => s.n === 0));
</script>

{#if next}
  <section class="sheet" aria-label="First steps">
    <h2>Before the first upgrade</h2>
    <ol>
      {#each steps as step (step.what)}
        <li class:done={step.n > 0} aria-current={step === next ? 'step' : undefined}>
          {#if step === next}<a class="btn preset-filled-primary-600-400" href={step.href}>{step.what}</a>
          {:else if step.n > 0}<span>{step.what}</span> <span class="quiet">{count(step.n, step.word)}</span>
          {:else}<span class="quiet">{step.what}</span>{/if}
        </li>
      {/each}
      <li><span class="quiet">Choose devices, plan a rollout, read the plan, start it</span></li>
    </ol>
  </section>
{/if}

<style>
  section {
    padding: 0.8rem 1.1rem 1rem;
    margin-bottom: 0.75rem;
  }
  h2 {
    margin-bottom: 0.5rem;
  }
  ol {
    display: grid;
    gap: 0.4rem;
    list-style: decimal inside;
  }
  li::marker {
    color: var(--quiet);
  }
  .done::marker {
    content: '✓ ';
    color: var(--good);
  }
</style>
