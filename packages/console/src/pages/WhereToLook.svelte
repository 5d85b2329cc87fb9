<script lang="ts">
  import Plus from '@lucide/svelte/icons/plus';
  import Trash2 from '@lucide/svelte/icons/trash-2';
  import { credentialKinds, probeNames, type Credential, type CredentialKind, type Network, type ProbeName } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, failureOf, may } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';

  let adding = $state<'network' | 'credential' | null>(null);

  const loaded = new Loaded(async () => {
    const [networks, credentials] = await Promise.all([client().networks(), client().credentials()]);
    return { networks, credentials };
  }, ['networks', 'credentials']);
  const networks = $derived(loaded.value?.networks ?? null);
  const credentials = $derived(loaded.value?.credentials ?? null);

  let removing = $state.raw<{ what: 'network' | 'credential'; id: string; name: string } | null>(null);
  async function trust(network: Network, trustNow: boolean) {
    try {
      await client().changeNetwork(network.id, { trustNow });
      await loaded.again();
    } catch (error) {
      loaded.failure = failureOf(error);
    }
  }

  let net = $state({
    name: '',
    site: '',
    ranges: '',
    exclude: '',
    rate: 500,
    probes: [...probeNames] as ProbeName[],
    credentials: [] as string[],
    trustNow: false,
    snmp: 161,
    ssh: 22,
    http: 80,
    https: 443,
    wsDiscovery: 3702,
    sip: 5060,
  });
  const words = (text: string): string[] => text.split(/[\s,]+/).filter((w) => w !== '');
  const addNetwork = () =>
    client().addNetwork({
      name: net.name.trim(),
      site: net.site.trim(),
      ranges: words(net.ranges),
      exclude: words(net.exclude),
      packetsPerSecond: net.rate,
      probes: net.probes,
      credentials: net.credentials,
      trustNow: net.trustNow,
      snmpPort: net.snmp,
      sshPort: net.ssh,
      httpPort: net.http,
      httpsPort: net.https,
      wsDiscoveryPort: net.wsDiscovery,
      sipPort: net.sip,
    });

  const none = {
    name: '',
    kind: 'snmp-v2c' as CredentialKind,
    user: '',
    secret: '',
    second: '',
    raise: '',
    auth: 'sha256' as 'sha1' | 'sha256',
  };
  let cred = $state({ ...none });
  const asks = $derived({
    user: cred.kind !== 'snmp-v2c' && cred.kind !== 'http-token',
    secret:
      { 'snmp-v2c': 'Community', 'snmp-v3': 'Authentication key', 'ssh-key': 'Private key', 'http-token': 'Token' }[cred.kind as string] ??
      'Password',
    second:
      { 'snmp-v3': 'Privacy key (AES-128)', 'ssh-password': 'Second word, for more rights', 'ssh-key': 'Passphrase of the key' }[
        cred.kind as string
      ] ?? null,
  });
  /** Whose secret is replaced; null when a credential is added. */
  let replacing = $state.raw<Credential | null>(null);
  const addCredential = async () => {
    const given = {
      name: cred.name.trim(),
      kind: cred.kind,
      user: asks.user ? cred.user : null,
      secret: cred.secret,
      second: asks.second && cred.second !== '' ? cred.second : null,
      raise: cred.kind === 'ssh-key' && cred.raise !== '' ? cred.raise : null,
      auth: cred.kind === 'snmp-v3' ? cred.auth : null,
    };
    await (replacing ? client().replaceCredential(given) : client().addCredential(given));
    cred = { ...none };
    replacing = null;
  };
  const portOf = (n: Network, p: ProbeName): string =>
    ({
      snmp: `${n.snmpPort}`,
      ssh: `${n.sshPort}`,
      http: `${n.httpPort}, ${n.httpsPort}`,
      onvif: `${n.wsDiscoveryPort}`,
      sip: `${n.sipPort}`,
    })[p];
  const total = $derived((networks ?? []).reduce((sum, n) => sum + n.addresses, 0));
</script>

<div class="head">
  <h1>Where to look</h1>
  <span class="quiet">Nothing outside of these networks is ever asked.</span>
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}

<section class="sheet" aria-label="Networks">
  <div class="bar">
    <h2>Networks</h2>
    {#if networks && networks.length > 0}<span class="quiet"
        >{networks.length === 1 ? '1 network' : `${networks.length} networks`}, {total === 1 ? '1 address' : `${total} addresses`}</span
      >{/if}
    <span class="grow"></span>
    {#if may('operator')}<button class="btn preset-outlined-surface-300-700" onclick={() => (adding = 'network')}
        ><Plus size={15} aria-hidden="true" />Add a network</button
      >{/if}
  </div>
  {#if networks && networks.length === 0}
    <Empty title="No networks yet">Add the ranges that Barrow may look into, with the credentials to try there.</Empty>
  {:else if networks}
    <table class="list">
      <thead
        ><tr
          ><th>Network</th><th>Site</th><th>Ranges</th><th class="num">Addresses</th><th>Probes and ports</th><th class="num">Packets/s</th
          ><th>Credentials, in order</th><th></th></tr
        ></thead
      >
      <tbody>
        {#each networks as n (n.id)}
          <tr>
            <td><b>{n.name}</b></td>
            <td>{n.site}</td>
            <td class="mono"
              >{n.ranges.join(' ')}{#if n.exclude.length > 0}<span class="quiet"> without {n.exclude.join(' ')}</span>{/if}</td
            >
            <td class="num">{n.addresses}</td>
            <td class="small"
              >{#each n.probes as p (p)}<span class="probe">{p} <span class="mono quiet">{portOf(n, p)}</span></span>{/each}</td
            >
            <td class="num">{n.packetsPerSecond}</td>
            <td class="small"
              >{n.credentials.join(', ') || 'none: only what devices tell to anybody'}{#if n.trustNow}<span class="care"
                  >; what it finds next is trusted</span
                >{/if}
              {#if may('admin') && n.credentials.length > 0}<button class="anchor" onclick={() => trust(n, !n.trustNow)}
                  >{n.trustNow ? 'Trust it no more' : 'Trust what it finds next'}</button
                >{/if}</td
            >
            <td
              >{#if may('operator')}<button
                  class="icon"
                  aria-label="Remove network {n.name}"
                  title="Remove; its devices stay known"
                  onclick={() => (removing = { what: 'network', id: n.id, name: n.name })}><Trash2 size={15} /></button
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {:else if !loaded.failure}<Empty title="Asking the service…">One moment.</Empty>{/if}
</section>

<section class="sheet" aria-label="Credentials">
  <div class="bar">
    <h2>Credentials</h2>
    <span class="quiet">Sealed when they are entered, and never shown again.</span>
    <span class="grow"></span>
    {#if may('admin')}<button
        class="btn preset-outlined-surface-300-700"
        onclick={() => {
          cred = { ...none };
          replacing = null;
          adding = 'credential';
        }}><Plus size={15} aria-hidden="true" />Add a credential</button
      >{/if}
  </div>
  {#if credentials && credentials.length === 0}
    <Empty title="No credentials yet">Without one Barrow knows only what devices tell to anybody.</Empty>
  {:else if credentials}
    <table class="list">
      <thead
        ><tr
          ><th>Credential</th><th>Kind</th><th>User</th><th>Second secret</th><th>Named by</th><th class="num">Worked on</th><th>Added</th
          ><th></th></tr
        ></thead
      >
      <tbody>
        {#each credentials as c (c.id)}
          <tr>
            <td><b>{c.name}</b></td>
            <td>{c.kind}{c.auth ? `, ${c.auth === 'sha1' ? 'SHA-1' : 'SHA-256'}` : ''}</td>
            <td class="mono">{c.user ?? '–'}</td>
            <td>{c.hasSecond ? 'yes' : '–'}</td>
            <td class="small"
              >{c.networks.length === networks?.length && c.networks.length > 2
                ? 'every network'
                : c.networks.join(', ') || 'no network'}</td
            >
            <td class="num">{c.devices}</td>
            <td class="quiet">{when(c.createdAt)}</td>
            <td
              >{#if may('admin')}<button
                  class="anchor"
                  onclick={() => {
                    cred = { ...none, name: c.name, kind: c.kind, user: c.user ?? '', ...(c.auth ? { auth: c.auth } : {}) };
                    replacing = c;
                    adding = 'credential';
                  }}>New secret</button
                >
                <button
                  class="icon"
                  aria-label="Remove credential {c.name}"
                  title="Remove"
                  onclick={() => (removing = { what: 'credential', id: c.id, name: c.name })}><Trash2 size={15} /></button
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  {:else if !loaded.failure}<Empty title="Asking the service…">One moment.</Empty>{/if}
</section>

{#if removing}
  <FormDialog
    title="Remove the {removing.what} {removing.name}?"
    about={removing.what === 'network'
      ? 'Nothing is looked for there any more. The devices that it found stay known, with all that is noted of them.'
      : 'It is forgotten, and cannot be shown again: whoever needs it later enters it anew. Devices that only it opens can be read and upgraded no more.'}
    word="Remove it"
    onclose={() => (removing = null)}
    send={async () => {
      const { what, id } = removing!;
      await (what === 'network' ? client().removeNetwork(id) : client().removeCredential(id));
      await loaded.again();
    }}
  />
{/if}
{#if adding === 'network'}
  <FormDialog
    title="Add a network"
    about="Ranges such as 127.40.1.0/24, 127.40.1.1-40 or a single address, with blanks between them."
    word="Add it"
    onclose={() => (adding = null)}
    send={addNetwork}
  >
    <div class="pair">
      <label class="label"><span class="label-text">Name</span><input class="input" bind:value={net.name} required maxlength="60" /></label>
      <label class="label"><span class="label-text">Site</span><input class="input" bind:value={net.site} required maxlength="60" /></label>
    </div>
    <label class="label"><span class="label-text">Ranges</span><input class="input mono" bind:value={net.ranges} required /></label>
    <div class="pair">
      <label class="label"><span class="label-text">Leave out</span><input class="input mono" bind:value={net.exclude} /></label>
      <label class="label"
        ><span class="label-text">Packets a second, at most</span><input
          class="input"
          type="number"
          min="1"
          max="20000"
          bind:value={net.rate}
          required
        /></label
      >
    </div>
    <fieldset>
      <legend class="label-text">Probes</legend>
      <div class="checks">
        {#each probeNames as p (p)}<label class="check"
            ><input class="checkbox" type="checkbox" value={p} bind:group={net.probes} /> {p}</label
          >{/each}
      </div>
    </fieldset>
    {#if may('admin')}<fieldset>
        <legend class="label-text">Credentials to try, in the order in which they are ticked</legend>
        <div class="checks">
          {#each credentials ?? [] as c (c.id)}<label class="check"
              ><input class="checkbox" type="checkbox" value={c.name} bind:group={net.credentials} /> {c.name}</label
            >{:else}<span class="quiet">none are known yet</span>{/each}
        </div>
      </fieldset>{:else}<p class="quiet">Which credentials are tried there, an admin says.</p>{/if}
    {#if may('admin')}
      <label class="check"
        ><input class="checkbox" type="checkbox" bind:checked={net.trustNow} /> Trust what the first discovery finds: passwords go to whatever
        answers there then</label
      >
    {/if}
    <details>
      <summary>Ports</summary>
      <div class="ports">
        {#each [['snmp', 'SNMP'], ['ssh', 'SSH'], ['http', 'HTTP'], ['https', 'HTTPS'], ['wsDiscovery', 'WS-Discovery'], ['sip', 'SIP']] as [key, label] (key)}
          <label class="label"
            ><span class="label-text">{label}</span><input
              class="input"
              type="number"
              min="1"
              max="65535"
              bind:value={net[key as 'snmp']}
              required
            /></label
          >
        {/each}
      </div>
    </details>
  </FormDialog>
{:else if adding === 'credential'}
  <FormDialog
    title={replacing ? `Replace the secret of ${replacing.name}` : 'Add a credential'}
    about={replacing
      ? 'It is sealed at once, and tried from now on wherever the old one was. The old one is gone.'
      : 'It is sealed at once. Name it in a network to have it tried there.'}
    word="Seal it"
    onclose={() => (adding = null)}
    send={addCredential}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Name</span><input
          class="input"
          bind:value={cred.name}
          required
          maxlength="60"
          disabled={replacing !== null}
        /></label
      >
      <label class="label"
        ><span class="label-text">Kind</span><select class="select" bind:value={cred.kind} disabled={replacing !== null}
          >{#each credentialKinds as k (k)}<option>{k}</option>{/each}</select
        ></label
      >
    </div>
    {#if asks.user}<label class="label"
        ><span class="label-text">User</span><input class="input" bind:value={cred.user} required autocomplete="off" /></label
      >{/if}
    {#if cred.kind === 'ssh-key'}
      <label class="label"
        ><span class="label-text">{asks.secret}</span><textarea class="textarea mono" rows="5" bind:value={cred.secret} required
        ></textarea></label
      >
    {:else}
      <label class="label"
        ><span class="label-text">{asks.secret}</span><input
          class="input"
          type="password"
          bind:value={cred.secret}
          required
          autocomplete="new-password"
        /></label
      >
    {/if}
    {#if asks.second}<label class="label"
        ><span class="label-text">{asks.second}</span><input
          class="input"
          type="password"
          bind:value={cred.second}
          autocomplete="new-password"
        /></label
      >{/if}
    {#if cred.kind === 'ssh-key'}<label class="label"
        ><span class="label-text">Second word, for more rights</span><input
          class="input"
          type="password"
          bind:value={cred.raise}
          autocomplete="new-password"
        /></label
      >{/if}
    {#if cred.kind === 'snmp-v3'}<label class="label"
        ><span class="label-text">Authentication by</span><select class="select" bind:value={cred.auth}
          ><option value="sha256">SHA-256</option><option value="sha1">SHA-1</option></select
        ></label
      >{/if}
  </FormDialog>
{/if}

<style>
  .head,
  .bar {
    display: flex;
    flex-wrap: wrap;
    align-items: baseline;
    gap: 0.25rem 0.9rem;
  }
  .head {
    margin-bottom: 0.75rem;
  }
  .bar {
    padding: 0.6rem 0.9rem;
    align-items: center;
  }
  h2 {
    font-weight: 650;
  }
  section {
    margin-bottom: 1rem;
    overflow-x: auto;
  }
  td {
    white-space: nowrap;
  }
  .small {
    white-space: normal;
    font-size: 0.8125rem;
  }
  .probe {
    display: inline-block;
    margin-right: 0.7rem;
    white-space: nowrap;
  }
  .care {
    color: var(--care);
  }
  .icon {
    color: var(--quiet);
    padding: 0.2rem;
  }
  .icon:hover {
    color: var(--bad);
  }
  .checks {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem 1rem;
    margin-top: 0.3rem;
  }
  .check {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
  }
  .check :global(.checkbox) {
    flex: none;
  }
  .ports {
    display: grid;
    grid-template-columns: repeat(3, 1fr);
    gap: 0.6rem;
    margin-top: 0.5rem;
  }
</style>
