<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import Trash2 from '@lucide/svelte/icons/trash-2';
  import { occasionKinds, occasionTexts, toldOfText, usualKinds, type NoticesView, type OccasionKind } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import ShownOnce from '../parts/ShownOnce.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { when } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';

  const loaded = new Loaded<NoticesView>(() => client().notices(), ['notices']);
  const view = $derived(loaded.value);
  let doing = $state<'add' | 'mail' | 'heartbeat' | 'address' | null>(null);
  let removing = $state<string | null>(null);
  let refused = $state.raw<Failure | null>(null);
  /** What a trial came to, by name. */
  let tried = $state<Record<string, string>>({});
  let made = $state.raw<{ name: string; secret: string } | null>(null);

  let who = $state({ name: '', kind: 'mail' as 'mail' | 'hook', to: '', on: [...usualKinds] as OccasionKind[] });
  let mail = $state({ host: '', port: 587, tls: 'starttls' as 'starttls' | 'implicit' | 'none', from: '', user: '', secret: '' });
  let heartbeat = $state({ url: '', everySeconds: 60 });
  let address = $state('');

  const open = (what: typeof doing) => {
    const { mailServer, heartbeat: beat } = view!;
    mail = {
      host: mailServer?.host ?? '',
      port: mailServer?.port ?? 587,
      tls: (mailServer?.tls ?? 'starttls') as typeof mail.tls,
      from: mailServer?.from ?? '',
      user: mailServer?.user ?? '',
      secret: '',
    };
    heartbeat = { url: beat?.url ?? '', everySeconds: beat?.everySeconds ?? 60 };
    address = view!.address;
    doing = what;
  };
  const add = async () => {
    const { name, kind, to, on } = who;
    const added = await client().addReceiver({ name: name.trim(), kind, to: to.trim(), on });
    made = added.secret === null ? null : { name: added.name, secret: added.secret };
    who = { name: '', kind: 'mail', to: '', on: [...usualKinds] };
    await loaded.again();
  };
  const setMail = async () => {
    const { host, port, tls, from, user, secret } = mail;
    const named = user.trim() !== '';
    await client().setMailServer({
      host: host.trim(),
      port,
      tls,
      from: from.trim(),
      user: named ? user.trim() : null,
      secret: named ? secret : null,
    });
    await loaded.again();
  };
  const setHeartbeat = async () => {
    await client().setHeartbeat({ url: heartbeat.url.trim() || null, everySeconds: heartbeat.everySeconds });
    await loaded.again();
  };
  const setAddress = async () => {
    await client().setNoticeAddress(address.trim() || null);
    await loaded.again();
  };
  async function attempt(name: string) {
    tried[name] = 'One moment…';
    try {
      const { sent, trouble } = await client().tryReceiver(name);
      tried[name] = sent ? 'It was taken.' : trouble!;
      refused = null;
    } catch (error) {
      delete tried[name];
      refused = failureOf(error);
    }
  }
</script>

<div class="head">
  <h1>Notices</h1>
  <span class="quiet">Who is told when somebody has to look, wherever they are.</span>
  <span class="grow"></span>
  {#if may('admin') && view}
    <button class="btn preset-filled-primary-600-400" onclick={() => open('add')}><Plus size={15} aria-hidden="true" />Tell somebody</button
    >
  {/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if refused}<Trouble failure={refused} />{/if}
{#if made}
  <ShownOnce secret={made.secret} ondone={() => (made = null)}
    >Requests to <b>{made.name}</b> are signed with this key (HMAC-SHA256, RFC 9421).</ShownOnce
  >
{/if}
{#if view === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if view}
  <div class="sheet">
    {#if view.receivers.length === 0}
      <Empty title="Nobody is told yet">
        {#if view.mailServer === null}For mail, name a server first; a signed request to an address needs none.{:else}Add somebody with the
          button above.{/if}
      </Empty>
    {:else}
      <table class="list">
        <thead
          ><tr><th>Name</th><th>By</th><th>To</th><th>Of</th><th>Last</th><th>Trouble</th><th><span class="unseen">Acts</span></th></tr
          ></thead
        >
        <tbody>
          {#each view.receivers as r (r.id)}
            <tr>
              <td class="name">{r.name}</td>
              <td>{r.kind === 'mail' ? 'mail' : 'signed request'}</td>
              <td class="to">{r.to}</td>
              <td>{toldOfText(r.on)}</td>
              <td class="quiet">{when(r.lastAt)}</td>
              <td
                >{#if tried[r.name]}<span role="status">{tried[r.name]}</span>{:else if r.trouble}<span class="bad">{r.trouble}</span
                  >{/if}{#if r.waiting > 0}<span class="quiet">&#32;{r.waiting === 1 ? '1 waits' : `${r.waiting} wait`}</span>{/if}</td
              >
              <td class="num">
                {#if may('operator')}<button class="anchor" onclick={() => attempt(r.name)}>Try it</button>{/if}
                {#if may('admin')}<button class="icon" aria-label="Tell {r.name} no more" onclick={() => (removing = r.name)}
                    ><Trash2 size={15} /></button
                  >{/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </div>
  <dl class="sheet ways">
    <dt>Mail server</dt>
    <dd>
      {#if view.mailServer}{view.mailServer.host}:{view.mailServer.port}, TLS: {view.mailServer.tls}, from {view.mailServer.from}{view
          .mailServer.user
          ? `, as ${view.mailServer.user}`
          : ''}{:else}none: mail cannot go out{/if}
      {#if may('admin')}<button class="anchor" onclick={() => open('mail')}>Change</button>{/if}
    </dd>
    <dt>Heartbeat</dt>
    <dd>
      {#if view.heartbeat}{view.heartbeat.url}, every {view.heartbeat.everySeconds} s while a rollout is under way{view.heartbeat.lastAt
          ? `, last ${when(view.heartbeat.lastAt)}`
          : ''}{#if view.heartbeat.trouble}<span class="bad">, not taken: {view.heartbeat.trouble}</span>{/if}{:else}none: nobody would
        notice that Barrow itself died{/if}
      {#if may('admin')}<button class="anchor" onclick={() => open('heartbeat')}>Change</button>{/if}
    </dd>
    <dt>Links lead to</dt>
    <dd>
      {view.address}
      {#if may('admin')}<button class="anchor" onclick={() => open('address')}>Change</button>{/if}
    </dd>
  </dl>
{/if}

{#if doing === 'add'}
  <FormDialog
    title="Tell somebody"
    about="What belongs together is one message: sixty failures, and what they led to."
    word="Tell them"
    onclose={() => (doing = null)}
    send={add}
  >
    <div class="pair">
      <label class="label"><span class="label-text">Name</span><input class="input" bind:value={who.name} required maxlength="60" /></label>
      <label class="label"
        ><span class="label-text">By</span><select class="select" bind:value={who.kind}
          ><option value="mail">mail</option><option value="hook">a signed request (POST of JSON)</option></select
        ></label
      >
    </div>
    <label class="label"
      ><span class="label-text">{who.kind === 'mail' ? 'Mail address' : 'Address that takes the request'}</span><input
        class="input"
        bind:value={who.to}
        required
        placeholder={who.kind === 'mail' ? 'night@example.net' : 'https://…'}
      /></label
    >
    <fieldset class="kinds">
      <legend class="label-text">When</legend>
      {#each occasionKinds as kind (kind)}<label class="check"
          ><input type="checkbox" class="checkbox" value={kind} bind:group={who.on} />
          {occasionTexts[kind]}</label
        >{/each}
    </fieldset>
  </FormDialog>
{:else if doing === 'mail'}
  <FormDialog title="Mail server" about="Through which mail goes out." word="Keep it" onclose={() => (doing = null)} send={setMail}>
    <div class="pair">
      <label class="label"><span class="label-text">Host</span><input class="input" bind:value={mail.host} required /></label>
      <label class="label"
        ><span class="label-text">Port</span><input
          class="input"
          type="number"
          min="1"
          max="65535"
          bind:value={mail.port}
          required
        /></label
      >
      <label class="label"
        ><span class="label-text">TLS</span><select class="select" bind:value={mail.tls}
          ><option value="starttls">by STARTTLS</option><option value="implicit">from the first octet</option><option value="none"
            >none</option
          ></select
        ></label
      >
      <label class="label"
        ><span class="label-text">Mail comes from</span><input class="input" type="email" bind:value={mail.from} required /></label
      >
      <label class="label"><span class="label-text">User, if it asks for one</span><input class="input" bind:value={mail.user} /></label>
      <label class="label"
        ><span class="label-text">Password</span><input
          class="input"
          type="password"
          autocomplete="off"
          bind:value={mail.secret}
          required={mail.user.trim() !== ''}
        /></label
      >
    </div>
  </FormDialog>
{:else if doing === 'heartbeat'}
  <FormDialog
    title="Heartbeat"
    about="This address is called while a rollout is under way. Whatever stands behind it wakes somebody when the calls stop. Empty: none."
    word="Keep it"
    onclose={() => (doing = null)}
    send={setHeartbeat}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Address</span><input class="input" bind:value={heartbeat.url} placeholder="https://…" /></label
      >
      <label class="label"
        ><span class="label-text">Every so many seconds</span><input
          class="input"
          type="number"
          min="10"
          max="3600"
          bind:value={heartbeat.everySeconds}
          required
        /></label
      >
    </div>
  </FormDialog>
{:else if doing === 'address'}
  <FormDialog
    title="Where links lead"
    about="The address under which people reach this console. Empty: the one that the service listens on."
    word="Keep it"
    onclose={() => (doing = null)}
    send={setAddress}
  >
    <label class="label"><span class="label-text">Address</span><input class="input" bind:value={address} placeholder="https://…" /></label>
  </FormDialog>
{:else if removing}
  <FormDialog
    title="Tell {removing} no more?"
    about="What still waits for them is dropped."
    word="Tell them no more"
    onclose={() => (removing = null)}
    send={async () => {
      await client().removeReceiver(removing!);
      await loaded.again();
    }}
  />
{/if}

<style>
  .bad {
    color: var(--bad);
  }
  .to {
    overflow-wrap: anywhere;
  }
  .ways {
    display: grid;
    grid-template-columns: max-content 1fr;
    gap: 0.4rem 1.25rem;
    padding: 0.8rem 1rem;
    margin-top: 0.75rem;
  }
  .ways dt {
    color: var(--quiet);
  }
  .ways dd {
    overflow-wrap: anywhere;
  }
  .kinds {
    display: grid;
    gap: 0.4rem;
  }
  .kinds .check {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .unseen {
    position: absolute;
    clip-path: inset(50%);
  }
</style>
