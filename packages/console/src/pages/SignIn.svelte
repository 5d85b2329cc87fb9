<script lang="ts">
  import { BarrowClient } from '@barrow/client';
  import Trouble from '../parts/Trouble.svelte';
  import { failureOf, signIn, type Failure } from '../lib/session.svelte.js';

  let token = $state('');
  let failure = $state<Failure | null>(null);
  let busy = $state(false);

  async function enter(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    failure = null;
    try {
      await new BarrowClient({ url: location.origin, token: token.trim() }).about();
      signIn(token.trim());
    } catch (error) {
      failure = failureOf(error);
    } finally {
      busy = false;
    }
  }
</script>

<div class="page">
  <form class="sheet" onsubmit={enter}>
    <h1><img src="/mark.svg" alt="" width="26" height="26" /> Barrow</h1>
    <label class="label">
      <span class="label-text">Token</span>
      <input class="input mono" type="password" autocomplete="off" bind:value={token} required placeholder="barrow_…" />
    </label>
    <p class="quiet">The service wrote its first one into the file <span class="mono">token</span> of its data folder.</p>
    {#if failure}<Trouble {failure} />{/if}
    <button class="btn preset-filled-primary-600-400" disabled={busy || token.trim() === ''}>{busy ? 'Asking…' : 'Sign in'}</button>
  </form>
</div>

<style>
  .page {
    display: grid;
    place-items: center;
    height: 100%;
  }
  form {
    width: min(24rem, 100% - 2rem);
    padding: 1.5rem;
    display: grid;
    gap: 1rem;
  }
  h1 {
    display: flex;
    gap: 0.6rem;
    align-items: center;
    font-size: 1.25rem;
    font-weight: 700;
  }
</style>
