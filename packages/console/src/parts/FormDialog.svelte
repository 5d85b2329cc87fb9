<script lang="ts">
  import { Dialog, Portal } from '@skeletonlabs/skeleton-svelte';
  import type { Snippet } from 'svelte';
  import Trouble from './Trouble.svelte';
  import { failureOf, type Failure } from '../lib/session.svelte.js';

  let {
    title,
    about,
    word,
    onclose,
    send,
    stays = () => false,
    children,
  }: {
    title: string;
    about: string;
    word: string;
    onclose: () => void;
    send: () => Promise<unknown>;
    /** Whether what was thrown is no failure: the dialog goes on. */
    stays?: (error: unknown) => boolean;
    children?: Snippet;
  } = $props();
  let busy = $state(false);
  let failure = $state<Failure | null>(null);

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    failure = null;
    try {
      await send();
      onclose();
    } catch (error) {
      failure = stays(error) ? null : failureOf(error);
    }
    busy = false;
  }
</script>

<Dialog open onOpenChange={(d) => !d.open && onclose()}>
  <Portal>
    <Dialog.Backdrop class="fixed inset-0 z-40 bg-surface-950/40" />
    <Dialog.Positioner class="fixed inset-0 z-50 grid place-items-center p-4">
      <Dialog.Content class="form-dialog sheet">
        <form onsubmit={submit}>
          <Dialog.Title class="text-lg font-semibold">{title}</Dialog.Title>
          <Dialog.Description class="quiet about">{about}</Dialog.Description>
          {@render children?.()}
          {#if failure}<Trouble {failure} />{/if}
          <div class="buttons">
            <button type="button" class="btn preset-outlined-surface-300-700" onclick={onclose}>Leave</button>
            <button class="btn preset-filled-primary-600-400" disabled={busy}>{busy ? 'One moment…' : word}</button>
          </div>
        </form>
      </Dialog.Content>
    </Dialog.Positioner>
  </Portal>
</Dialog>

<style>
  :global(.form-dialog) {
    width: min(36rem, 100%);
    max-height: calc(100vh - 2rem);
    overflow: auto;
    padding: 1.25rem 1.5rem;
    box-shadow: 0 20px 50px #0004;
  }
  form {
    display: grid;
    gap: 0.9rem;
  }
  form :global(.pair) {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.9rem;
  }
  /* What a device asks may have lines of its own. */
  form :global(.about) {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .buttons {
    display: flex;
    justify-content: flex-end;
    gap: 0.6rem;
  }
</style>
