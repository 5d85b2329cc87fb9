<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import Trash2 from '@lucide/svelte/icons/trash-2';
  import { roles, type Token } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import ShownOnce from '../parts/ShownOnce.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { when } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, may, session } from '../lib/session.svelte.js';

  // Who may do what is known a moment after the page; nobody else asks for what is shown to admins.
  const tokens = new Loaded<Token[]>(async () => {
    const { role } = session.about ?? (await client().about());
    return role === 'admin' ? client().tokens() : [];
  }, []);
  let adding = $state(false);
  let removing = $state.raw<Token | null>(null);
  let name = $state('');
  let role = $state<(typeof roles)[number]>('operator');
  /** Told once, and never again. */
  let made = $state.raw<{ name: string; token: string } | null>(null);
  const rights = { viewer: 'reads', operator: 'plans, starts and changes', admin: 'all, secrets and tokens too' } as const;

  const add = async () => {
    const { token } = await client().addToken({ name: name.trim(), role });
    made = { name: name.trim(), token };
    name = '';
    await tokens.again();
  };
</script>

<div class="head">
  <h1>Access</h1>
  <span class="grow"></span>
  {#if may('admin')}
    <button class="btn preset-filled-primary-600-400" onclick={() => (adding = true)}
      ><Plus size={15} aria-hidden="true" />Add a token</button
    >
  {/if}
</div>
{#if tokens.failure}<Trouble failure={tokens.failure} />{/if}
{#if made}
  <ShownOnce secret={made.token} ondone={() => (made = null)}>The token of <b>{made.name}</b>.</ShownOnce>
{/if}
{#if session.about && !may('admin')}
  <div class="sheet"><Empty title="For admins">Who has access is shown to admins, and given by them.</Empty></div>
{:else if tokens.value === null && !tokens.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if tokens.value}
  <div class="sheet">
    <table class="list">
      <thead
        ><tr><th>Name</th><th>Role</th><th>May</th><th>Made</th><th>Last used</th><th><span class="unseen">Remove</span></th></tr></thead
      >
      <tbody>
        {#each tokens.value as t (t.id)}
          <tr>
            <td class="name"
              >{t.name}{#if t.name === session.about?.who}<span class="quiet">, this is you</span>{/if}</td
            >
            <td>{t.role}</td>
            <td class="quiet">{rights[t.role]}</td>
            <td class="quiet">{when(t.createdAt)}</td>
            <td class="quiet">{when(t.lastUsed)}</td>
            <td class="num"
              ><button class="icon" aria-label="Remove the token of {t.name}" onclick={() => (removing = t)}><Trash2 size={15} /></button
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}

{#if adding}
  <FormDialog
    title="Add a token"
    about="For one person or one program each, so that it is known who did what."
    word="Add it"
    onclose={() => (adding = false)}
    send={add}
  >
    <label class="label"><span class="label-text">Whose it is</span><input class="input" bind:value={name} required maxlength="60" /></label
    >
    <label class="label"
      ><span class="label-text">Role</span><select class="select" bind:value={role}
        >{#each roles as r (r)}<option value={r}>{r}: {rights[r]}</option>{/each}</select
      ></label
    >
  </FormDialog>
{:else if removing}
  <FormDialog
    title="Remove the token of {removing.name}?"
    about="Whoever uses it is shut out at once, and what they listen to ends. It cannot be taken back: they would need another."
    word="Remove it"
    onclose={() => (removing = null)}
    send={async () => {
      await client().removeToken(removing!.id);
      await tokens.again();
    }}
  />
{/if}

<style>
  .unseen {
    position: absolute;
    clip-path: inset(50%);
  }
</style>
