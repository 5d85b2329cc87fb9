<script lang="ts">
  import Lightbulb from '@lucide/svelte/icons/lightbulb';
  import Pencil from '@lucide/svelte/icons/pencil';
  import TriangleAlert from '@lucide/svelte/icons/triangle-alert';
  import { kinds, type DeviceChange, type DeviceDetail, type HistoryEntry, type Kind } from '@barrow/core';
  import { octets } from '@barrow/client';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import { saveAs } from '../lib/save.js';
  import KindIcon from '../parts/KindIcon.svelte';
  import PathSteps from '../parts/PathSteps.svelte';
  import PlanDialog from '../parts/PlanDialog.svelte';
  import State from '../parts/State.svelte';
  import SwapDialog from '../parts/SwapDialog.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, failureOf, may } from '../lib/session.svelte.js';
  import { duration, when } from '../lib/format.js';
  import { goTo, place } from '../lib/place.js';

  let told = $state('');
  let editing = $state(false);
  let planning = $state(false);
  let swapping = $state(false);
  let removing = $state(false);
  /** It is being removed: what is told of it meanwhile is not asked for. */
  let leaving = false;
  const id = $derived(place.params['id'] ?? '');

  const loaded: Loaded<{ device: DeviceDetail; history: HistoryEntry[] } | null> = new Loaded(async () => {
    if (leaving) return loaded.value;
    const [device, history] = await Promise.all([client().device(id), client().deviceHistory(id)]);
    return { device, history };
  }, ['devices', 'targets', 'images']);
  const device = $derived(loaded.value?.device ?? null);
  const history = $derived(loaded.value?.history ?? []);

  async function act(work: () => Promise<string>) {
    try {
      told = await work();
      loaded.failure = null;
    } catch (error) {
      loaded.failure = failureOf(error);
    }
  }
  const locate = () => act(async () => `It blinks for ${(await client().locate(id, 30)).seconds} s.`);
  const disarm = () => act(async () => `It is no longer armed: its next reset does not bring ${(await client().disarm(id)).disarmed}.`);
  const backUp = () => act(async () => `Its settings are saved: ${octets((await client().takeBackup(id)).bytes)}, on the page Backups.`);
  const approve = () =>
    act(async () => {
      const { address, hostKey, family } = device!;
      const { left } = await client().approveHosts([{ device: id, address: address ?? '', hostKey, family }]);
      return left[0] ? `Not approved: ${left[0].why}.` : 'Passwords may go to it from now on. Discover its network to read it.';
    });
  const acceptKey = (key: string) => act(async () => (await client().acceptHostKey(id, key), 'The key is pinned from now on.'));

  let drafting = $state(false);
  let draft = $state({ versions: '', maker: '', model: '' });
  async function saveDraft() {
    const given = Object.fromEntries(Object.entries(draft).filter(([, value]) => value.trim() !== ''));
    const { family, text } = await client().familyDraft(id, given);
    saveAs(`${family}.yaml`, new Blob([text], { type: 'application/yaml' }));
  }

  const nothingTold = { console: '', serves: '', servesSites: '', radio: '', decidedBy: '', licenceUntil: '', supplies: '' };
  /** What is told of it, as it is written into the form. */
  const toldForm = (d: DeviceDetail): typeof nothingTold => {
    const { told } = d;
    return {
      console: d.also.find((a) => a.what === 'Console')?.text ?? '',
      serves: (told.serves ?? []).join(', '),
      servesSites: told.servesSites === undefined ? '' : told.servesSites.join(', ') || 'all',
      radio: told.radio === undefined ? '' : d.radioNames.join(', ') || 'none',
      decidedBy: told.decidedBy ?? '',
      licenceUntil: told.licenceUntil ?? '',
      supplies: told.supplies === undefined ? '' : String(told.supplies),
    };
  };
  let form = $state({ name: '', site: '', kind: 'other' as Kind, tags: '', note: '', parent: '', feed: '', uplink: '', ...nothingTold });
  const endText = (e: { device: string; port: string | null } | null): string => {
    if (e === null || !device) return '';
    const name =
      [...device.links.flatMap((l) => [l.a, l.b]), ...device.feeds.map((f) => f.from)].find((x) => x.device === e.device)?.name ?? e.device;
    return `${name}${e.port === null ? '' : `:${e.port}`}`;
  };
  function edit() {
    if (!device) return;
    form = {
      name: device.name,
      site: device.site,
      kind: device.kind,
      tags: device.tags.join(' '),
      note: device.note,
      parent: device.parentName ?? '',
      feed: endText(device.feedByHand),
      uplink: endText(device.uplinkByHand),
      ...toldForm(device),
    };
    editing = true;
  }
  /** Of what is told only what was changed; one word stands for a list with nothing in it. */
  function toldChanges(d: DeviceDetail): DeviceChange {
    const before = toldForm(d);
    const change: Record<string, unknown> = {};
    for (const key of ['console', 'decidedBy', 'licenceUntil'] as const)
      if (form[key] !== before[key]) change[key] = form[key].trim() === '' ? null : form[key].trim();
    for (const [key, nothing] of [
      ['serves', ''],
      ['servesSites', 'all'],
      ['radio', 'none'],
    ] as const) {
      const text = form[key].trim();
      if (form[key] !== before[key]) change[key] = text === '' ? null : text === nothing ? [] : text.split(/\s*,\s*/);
    }
    if (form.supplies !== before.supplies) change['supplies'] = form.supplies === '' ? null : Number(form.supplies);
    return change;
  }
  /** Only what was changed is sent: the rest stays with the probes. */
  async function save() {
    const d = device!;
    const none = (text: string) => (text.trim() === '' ? null : text.trim());
    await client().setDevice(d.id, {
      ...(form.name !== d.name ? { name: none(form.name) } : {}),
      ...(form.site !== d.site ? { site: none(form.site) } : {}),
      ...(form.kind !== d.kind ? { kind: form.kind } : {}),
      ...(form.parent !== (d.parentName ?? '') ? { parent: none(form.parent) } : {}),
      ...(form.feed !== endText(d.feedByHand) ? { feed: none(form.feed) } : {}),
      ...(form.uplink !== endText(d.uplinkByHand) ? { uplink: none(form.uplink) } : {}),
      ...toldChanges(d),
      tags: form.tags.split(/[\s,]+/).filter((t) => t !== ''),
      note: form.note,
    });
  }

  const byHand = $derived(new Set(device?.byHand));
  const facts = $derived.by((): { word: string; value: string | null; mono?: boolean; by?: string | undefined }[] => {
    if (!device) return [];
    const by = device.believedBy;
    const hand = (field: string) => (byHand.has(field) ? 'by hand' : undefined);
    return [
      {
        word: 'Address',
        value:
          device.address === null
            ? `none of its own; through ${device.parentName ?? 'nobody'}`
            : [device.address, ...device.addresses].join(', '),
        mono: device.address !== null,
      },
      { word: 'Site', value: `${device.site}${device.network ? `, network ${device.network}` : ''}`, by: hand('site') },
      { word: 'Kind', value: device.kind, by: hand('kind') },
      { word: 'Maker, model', value: [device.maker, device.model].filter(Boolean).join(' '), by: by['model'] },
      { word: 'Hardware', value: device.hardwareRevision, mono: true, by: by['hardwareRevision'] },
      { word: 'Serial', value: device.serial, mono: true, by: by['serial'] },
      { word: 'MAC', value: device.mac, mono: true, by: by['mac'] },
      {
        word: 'Firmware',
        value: device.firmware ?? `unknown. ${device.firmwareNote ?? ''}`,
        mono: device.firmware !== null,
        by: device.firmware === null ? undefined : by['firmware'],
      },
      ...(device.armed
        ? [
            {
              word: 'Armed',
              value: `its next reset brings ${device.armed.version}`,
              mono: false,
              by: `${device.armed.by}, ${when(device.armed.since)}`,
            },
          ]
        : []),
      { word: 'Boot loader', value: device.bootLoader, mono: true, by: by['bootLoader'] },
      { word: 'Up', value: device.upSince === null ? null : `about ${duration(Date.now() - Date.parse(device.upSince))}` },
      { word: 'Parent', value: device.parentName, by: hand('parent') },
      { word: 'Family', value: device.family ?? 'none fits' },
      { word: 'Recognised by', value: device.familyEvidence },
      {
        word: 'Opened by',
        value: Object.entries(device.credentials)
          .map(([p, name]) => `${name} (${p})`)
          .join(', '),
      },
      { word: 'SSH host key', value: device.hostKey, mono: true },
      { word: 'Approved', value: device.approved && `${device.approved.by}, ${when(device.approved.at)}` },
      {
        word: 'Retired',
        value:
          device.retired &&
          `since ${when(device.retired.at)}, by ${device.retired.by}${device.retired.replacedBy === null ? '' : `; ${device.retired.replacedBy} took its place`}. It is in no plan.`,
      },
      { word: 'Tags', value: device.tags.join(' ') },
      { word: 'Note', value: device.note },
      ...device.also.map(({ what, text, by: whom }) => ({ word: what, value: text, by: whom === 'hand' ? 'by hand' : undefined })),
      { word: 'First seen', value: when(device.firstSeen) },
      { word: 'Last seen', value: when(device.lastSeen) },
    ].filter((f) => f.value !== null && f.value !== '');
  });
  const links = $derived(
    (device?.links ?? []).map((l) => ({ l, here: l.a.device === device!.id ? l.a : l.b, there: l.a.device === device!.id ? l.b : l.a })),
  );
  const fedBy = $derived(device?.feeds.filter((f) => f.to.device === device!.id) ?? []);
  const feeds = $derived(device?.feeds.filter((f) => f.from.device === device!.id) ?? []);
  const because = { power: 'loses power', connection: 'is cut off', parent: 'is managed through it' } as const;
  const speed = (m: number | null): string => (m === null ? '' : m >= 1000 ? `${m / 1000} Gbit/s` : `${m} Mbit/s`);
  const flagWords: Record<string, string> = {
    'same-serial': 'Another device tells the same serial',
    'took-address': 'It answers where another device was',
    displaced: 'Another device answers at its address',
    'host-key': 'Its SSH host key is another one',
    'awaiting-approval': 'It gets no password before somebody has approved it',
  };
</script>

<p class="crumb"><a class="anchor" href="/">Devices</a></p>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if device}
  <div class="head">
    <h1><KindIcon kind={device.kind} size={18} />{device.name}</h1>
    {#if device.target || device.standing !== 'no-target'}<State word={device.standing} />{/if}
    {#if device.target}<span class="quiet">target <span class="mono">{device.target}</span></span>{/if}
    {#if device.standingReason}<span class="quiet">{device.standingReason}</span>{/if}
    {#if device.path.length > 0}<PathSteps path={device.path} />{/if}
    {#if device.targetWhy && !device.standingReason && !device.targetWhy.startsWith('every device of the family')}<span class="quiet"
        >target by: {device.targetWhy}</span
      >{/if}
    {#if device.rollout}<a class="anchor" href="/rollouts/{device.rollout}">in a rollout now</a>{/if}
    <span class="grow"></span>
    <span class="quiet" role="status">{told}</span>
    {#if may('operator')}<span class="acts">
        {#if device.canLocate}<button class="btn preset-outlined-surface-300-700" onclick={locate}
            ><Lightbulb size={15} aria-hidden="true" />Blink its light</button
          >{/if}
        {#if device.standing === 'behind' && device.upgradable && device.rollout === null}<button
            class="btn preset-filled-primary-600-400"
            onclick={() => (planning = true)}>Upgrade this device</button
          >{/if}
        {#if device.armed}<button
            class="btn preset-outlined-surface-300-700"
            title="Its next reset then brings no other version"
            onclick={disarm}>Disarm</button
          >{/if}
        <button class="btn preset-outlined-surface-300-700" onclick={backUp}>Back up</button>
        {#if may('admin') && device.serial !== null && device.address !== null}<button
            class="btn preset-outlined-surface-300-700"
            title="A spare gets its settings, its address and its name"
            onclick={() => (swapping = true)}>Swap</button
          >{/if}
        <button class="btn preset-outlined-surface-300-700" onclick={() => (removing = true)}>Remove</button>
        <button class="btn preset-outlined-surface-300-700" onclick={edit}><Pencil size={15} aria-hidden="true" />Set by hand</button>
      </span>{/if}
  </div>
  {#each device.flags as flag, nth (nth)}
    <div class="sheet flag" role="note">
      <TriangleAlert size={17} aria-hidden="true" />
      <div>
        <b>{flagWords[flag.flag] ?? flag.flag}</b>, since {when(flag.at)}
        <p>
          {flag.detail}{#if flag.other}. <a class="anchor" href="/devices/{flag.other}">The other device</a>{/if}
        </p>
        {#if flag.flag === 'awaiting-approval' && may('operator')}
          <p class="quiet">
            Compare what it shows with the device itself.
            <button class="anchor" onclick={approve}>Approve it</button>
          </p>
        {/if}
        {#if flag.flag === 'host-key' && device.shownHostKey && may('operator')}
          <p class="quiet">
            A reflash may change it; so does a device that was put in its place. Compare the serial first.
            <button class="anchor" onclick={() => acceptKey(device!.shownHostKey!)}>Accept {device.shownHostKey}</button>
          </p>
        {/if}
      </div>
    </div>
  {/each}
  <div class="columns">
    <div>
      <section class="sheet" aria-label="Record">
        <h2>Record</h2>
        <dl>
          {#each facts as { word, value, mono, by }, nth (nth)}<dt>{word}</dt>
            <dd>
              <span class:mono>{value}</span>{#if by}<span class="by">{by}</span>{/if}
            </dd>{/each}
        </dl>
        {#if device.members.length > 0}
          <h3>Members of the stack</h3>
          <table class="list">
            <tbody>
              {#each device.members as m, i (i)}<tr
                  ><td>{m.name}</td><td class="mono">{m.serial}</td><td>{m.model}</td><td class="mono">{m.firmware}</td></tr
                >{/each}
            </tbody>
          </table>
        {/if}
      </section>
      <section class="sheet" aria-label="History">
        <h2>History</h2>
        {#if history.length === 0}<p class="quiet none">Nothing is noted of it yet.</p>{/if}
        <ul class="history">
          {#each history.slice(0, 30) as h, i (i)}
            <li>
              <span class="quiet">{when(h.at)}</span>
              <span
                >{h.field}&#32;{#if h.before !== null}
                  <span class="mono">{h.before}</span> →{/if}
                <span class="mono">{h.after ?? (h.before === null ? '' : 'not known')}</span></span
              >
              <span class="by">{h.probe}</span>
            </li>
          {/each}
        </ul>
      </section>
    </div>
    <div>
      <section class="sheet" aria-label="What goes dark">
        <h2>If this reboots</h2>
        {#if device.dark.length === 0}
          <p class="quiet none">Nothing else that is known goes dark.</p>
        {:else}
          <p class="none"><b>{device.dark.length}</b> {device.dark.length === 1 ? 'device goes' : 'devices go'} dark:</p>
          <ul class="dark">
            {#each device.dark as d (d.device)}
              <li title="{because[d.why]}, through {d.through}">
                <KindIcon kind={d.kind} size={13} /><a class="anchor" href="/devices/{d.device}">{d.name}</a>
                <span class="quiet">{because[d.why]}{d.through !== device.name ? ` with ${d.through}` : ''}</span>
              </li>
            {/each}
          </ul>
        {/if}
      </section>
      <section class="sheet" aria-label="Links">
        <h2>Links and power</h2>
        {#if links.length === 0}<p class="care none">Nothing names what it hangs on. Set its uplink by hand if you know it.</p>{/if}
        <table class="list">
          <tbody>
            {#each links as { l, here, there }, nth (nth)}
              <tr title={l.evidence.map((e) => e.how).join('; ')}>
                <td class="mono tight">{here.port ?? '–'}</td>
                <td><a class="anchor" href="/devices/{there.device}">{there.name}</a> <span class="mono quiet">{there.port ?? ''}</span></td
                >
                <td class="quiet tight"
                  >{[speed(l.speedMbps), l.medium === 'wireless' ? 'wireless' : '', l.bundled > 1 ? `${l.bundled} bundled` : '']
                    .filter(Boolean)
                    .join(', ')}</td
                >
                <td class="tight" data-sure={l.sure}>{l.sure}</td>
              </tr>
            {/each}
          </tbody>
        </table>
        <p class="none">
          {#if fedBy.length > 0}
            Power from
            {#each fedBy as f, i (i)}{i > 0 ? ' and ' : ''}<a class="anchor" href="/devices/{f.from.device}">{f.from.name}</a>
              <span class="mono">{f.from.port ?? ''}</span> <span class="quiet">({f.sure})</span>{/each}.
          {:else}<span class="quiet">Nobody told what feeds it.</span>{/if}
          {#if feeds.length > 0}
            It feeds {#each feeds as f, i (i)}{i > 0 ? ', ' : ''}<a class="anchor" href="/devices/{f.to.device}">{f.to.name}</a>{/each}.
          {/if}
        </p>
        {#each device.strangers as s, i (i)}
          <p class="care none">
            On {s.port ?? 'an unknown port'} it hears {s.name ?? s.mac ?? 'something unnamed'}
            {s.addresses.join(' ')}, which is not in the records.
          </p>
        {/each}
      </section>
      {#if device.children.length > 0}
        <section class="sheet" aria-label="What it manages">
          <h2>Managed through it</h2>
          <ul class="dark">
            {#each device.children as c (c.id)}
              <li>
                <KindIcon kind={c.kind} size={13} /><a class="anchor" href="/devices/{c.id}">{c.name}</a>
                <span class="mono">{c.firmware ?? ''}</span>{#if !c.firmware}<span class="care">version unknown</span
                  >{/if}{#if !c.present}<span class="quiet">away</span>{/if}
              </li>
            {/each}
          </ul>
        </section>
      {/if}
      {#if device.familyWouldNeed.length > 0}
        <section class="sheet" aria-label="What a family file would need">
          <h2>No family fits. A family file would need</h2>
          <ul class="need">
            {#each device.familyWouldNeed as line, nth (nth)}<li>{line}</li>{/each}
          </ul>
          <p class="begin">
            <button class="btn preset-outlined-surface-300-700" onclick={() => (drafting = true)}>Draft a family file</button>
          </p>
        </section>
      {/if}
      <section class="sheet" aria-label="Observations">
        <h2>What it answered</h2>
        {#each device.observations as seen, index (index)}
          <details open={index === 0}>
            <summary
              ><b>{seen.probe}</b> <span class="mono quiet">{seen.address}</span>
              <span class="quiet"
                >{when(seen.at)}{seen.times > 1 ? `, ${seen.times} times until ${when(seen.lastAt)}` : ''}; {Object.keys(seen.raw)
                  .length === 1
                  ? '1 answer'
                  : `${Object.keys(seen.raw).length} answers`}</span
              ></summary
            >
            <table class="list">
              <tbody>
                {#each Object.entries(seen.raw).slice(0, 60) as [key, value] (key)}
                  <tr
                    ><td class="mono quiet key">{key}</td><td class="mono value"
                      >{typeof value === 'string' ? value : JSON.stringify(value)}</td
                    ></tr
                  >
                {/each}
              </tbody>
            </table>
            {#if Object.keys(seen.raw).length > 60}<p class="quiet none">
                and {Object.keys(seen.raw).length - 60} more; `barrow device show --json` has them all
              </p>{/if}
          </details>
        {:else}
          <Empty title="Nothing yet">A discovery keeps every raw answer here.</Empty>
        {/each}
      </section>
    </div>
  </div>
{:else if !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

{#if drafting && device}
  <FormDialog
    title="Draft a family file"
    about="A file to begin with, from what it answered. What is missing stands in it; the command family record writes into it what you do once by hand."
    word="Save the draft"
    onclose={() => (drafting = false)}
    send={saveDraft}
  >
    <label class="label"
      ><span class="label-text">Two or three versions of it, the oldest first</span><input
        class="input mono"
        bind:value={draft.versions}
        placeholder="1.9.2, 1.10.0, 2.0.1"
        required={device.firmware === null}
      /></label
    >
    <div class="pair">
      <label class="label"><span class="label-text">Maker</span><input class="input" bind:value={draft.maker} /></label>
      <label class="label"><span class="label-text">Model</span><input class="input" bind:value={draft.model} /></label>
    </div>
  </FormDialog>
{/if}
{#if editing && device}
  <FormDialog
    title="Set by hand: {device.name}"
    about="What you set here no probe changes. An empty field goes back to the probes."
    word="Set it"
    onclose={() => (editing = false)}
    send={save}
  >
    <div class="pair">
      <label class="label"><span class="label-text">Name</span><input class="input" bind:value={form.name} /></label>
      <label class="label"><span class="label-text">Site</span><input class="input" bind:value={form.site} /></label>
      <label class="label"
        ><span class="label-text">Kind</span><select class="select" bind:value={form.kind}
          >{#each kinds as k (k)}<option>{k}</option>{/each}</select
        ></label
      >
      <label class="label"
        ><span class="label-text">Parent</span><input class="input" bind:value={form.parent} placeholder="a device" /></label
      >
      <label class="label"
        ><span class="label-text">Fed by</span><input class="input" bind:value={form.feed} placeholder="device:port" /></label
      >
      <label class="label"
        ><span class="label-text">Hangs on</span><input class="input" bind:value={form.uplink} placeholder="device:port" /></label
      >
    </div>
    <details>
      <summary>What else only a person can know</summary>
      <div class="pair">
        <label class="label"
          ><span class="label-text">Its console is at</span><input
            class="input"
            bind:value={form.console}
            placeholder="device:port"
          /></label
        >
        <label class="label"
          ><span class="label-text">Power supplies</span><input
            class="input"
            type="number"
            min="1"
            max="64"
            bind:value={form.supplies}
          /></label
        >
        <label class="label"
          ><span class="label-text">Gives to others</span><input
            class="input"
            bind:value={form.serves}
            placeholder="addresses, names, logins, time"
          /></label
        >
        <label class="label"
          ><span class="label-text">to these sites</span><input
            class="input"
            bind:value={form.servesSites}
            placeholder="its own; or all"
          /></label
        >
        <label class="label"
          ><span class="label-text">Radio beside it</span><input
            class="input"
            bind:value={form.radio}
            placeholder="access points; or none"
          /></label
        >
        <label class="label"
          ><span class="label-text">Licence until</span><input class="input" type="date" bind:value={form.licenceUntil} /></label
        >
        <label class="label wide"
          ><span class="label-text">Who decides on its firmware</span><input
            class="input"
            bind:value={form.decidedBy}
            placeholder="you"
          /></label
        >
      </div>
    </details>
    <label class="label"><span class="label-text">Tags, with blanks between them</span><input class="input" bind:value={form.tags} /></label
    >
    <label class="label"><span class="label-text">Note</span><textarea class="textarea" rows="3" bind:value={form.note}></textarea></label>
  </FormDialog>
{/if}

{#if removing && device}
  <FormDialog
    title="Remove {device.name}?"
    about="Its record goes, with its notes and tags; its backups and the reports about it stay. If it still answers, the next discovery finds it again as a new one."
    word="Remove it"
    onclose={() => (removing = false)}
    send={async () => {
      leaving = true;
      await client()
        .removeDevice(id)
        .catch((error: unknown) => {
          leaving = false;
          throw error;
        });
      goTo('/');
    }}
  />
{/if}
{#if swapping && device}
  <SwapDialog {device} onclose={() => (swapping = false)} ondone={(what) => void act(async () => what)} />
{/if}
{#if planning && device}
  <PlanDialog
    size={1}
    ids={() => [id]}
    onclose={() => (planning = false)}
    onplanned={(made) => goTo(`/rollouts/${encodeURIComponent(made)}`)}
  />
{/if}

<style>
  details summary {
    cursor: pointer;
    display: list-item;
    list-style: disclosure-closed inside;
  }
  details[open] summary {
    list-style-type: disclosure-open;
    margin-bottom: 0.5rem;
  }
  .begin {
    padding: 0 1rem 0.8rem;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
  }
  .crumb {
    margin-bottom: 0.25rem;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 1rem;
    margin-bottom: 0.9rem;
    flex-wrap: wrap;
  }
  h1 {
    font-size: 1.25rem;
    font-weight: 650;
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  h1 :global(svg) {
    color: var(--quiet);
  }
  h2 {
    font-weight: 650;
    padding: 0.55rem 0.9rem;
    border-bottom: 1px solid var(--line);
  }
  h3 {
    padding: 0.3rem 0.9rem;
    color: var(--quiet);
  }
  .columns {
    display: grid;
    grid-template-columns: minmax(24rem, 5fr) minmax(0, 7fr);
    gap: 1rem;
    align-items: start;
  }
  section {
    margin-bottom: 1rem;
  }
  .flag {
    display: flex;
    gap: 0.7rem;
    padding: 0.6rem 0.9rem;
    margin-bottom: 0.8rem;
    border-left: 4px solid var(--care);
    overflow-wrap: anywhere;
  }
  .flag :global(svg) {
    color: var(--care);
    flex: none;
    margin-top: 0.15rem;
  }
  dl {
    display: grid;
    grid-template-columns: 7.5rem 1fr;
    gap: 0.25rem 0.75rem;
    padding: 0.65rem 0.9rem;
  }
  dt {
    color: var(--quiet);
  }
  dd {
    overflow-wrap: anywhere;
  }
  .by {
    color: var(--quiet);
    font-size: 0.75rem;
    margin-left: 0.5rem;
  }
  .none {
    padding: 0.5rem 0.9rem;
  }
  .care {
    color: var(--care);
  }
  .dark {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.15rem 1rem;
    padding: 0.2rem 0.9rem 0.6rem;
  }
  .dark li {
    display: flex;
    align-items: center;
    gap: 0.4rem;
    white-space: nowrap;
    overflow: hidden;
  }
  .dark li :global(svg) {
    color: var(--quiet);
    flex: none;
  }
  .dark .quiet {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .need {
    padding: 0.5rem 0.9rem 0.6rem 2rem;
    list-style: disc;
  }
  .history {
    padding: 0.5rem 0.9rem 0.6rem;
    display: grid;
    gap: 0.25rem;
  }
  .history li {
    display: grid;
    grid-template-columns: 8.6rem 1fr;
    gap: 0 0.6rem;
    overflow-wrap: anywhere;
  }
  .history .by {
    grid-column: 2;
    margin: 0;
  }
  .tight {
    white-space: nowrap;
    width: 1%;
  }
  [data-sure='suggested'] {
    color: var(--care);
  }
  summary {
    padding: 0.45rem 0.9rem;
    cursor: pointer;
    display: flex;
    gap: 0.8rem;
    align-items: baseline;
  }
  td.key,
  td.value {
    vertical-align: top;
  }
  td.key {
    width: 1%;
    white-space: nowrap;
  }
  .value {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
</style>
