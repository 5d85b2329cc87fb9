<script lang="ts">
  import PackagePlus from '@lucide/svelte/icons/package-plus';
  import { octets, someOf } from '@barrow/client';
  import {
    dayNames,
    duration,
    places,
    type Delivery,
    type DeliveryPlan,
    type Image,
    type Offer,
    type Place,
    type Site,
    type StoreCheck,
    type WindowInput,
  } from '@barrow/core';
  import Cause from '../parts/Cause.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { inAddress } from '../lib/address.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';

  const dhcp = new Loaded(() => client().dhcp(), ['offers', 'sites', 'images']);
  interface Shown {
    readonly offers: Offer[];
    readonly deliveries: Delivery[];
    readonly sites: Site[];
    readonly images: Image[];
  }
  const loaded: Loaded<Shown> = new Loaded<Shown>(
    async () => {
      const [offers, deliveries, sites, images] = await Promise.all([
        client().offers(),
        client().deliveries(200),
        client().sites(),
        client().images(),
      ]);
      return { offers, deliveries, sites, images };
    },
    ['offers', 'sites', 'deliveries', 'images', 'devices'],
    (event) => {
      if (event.kind !== 'delivery' || loaded.value === null) return false;
      const { delivery } = event;
      const isKnown = deliveries.some((d) => d.id === delivery.id);
      const now = isKnown ? deliveries.map((d) => (d.id === delivery.id ? delivery : d)) : [delivery, ...deliveries];
      loaded.value = { ...loaded.value, deliveries: now };
      return false;
    },
  );
  const offers = $derived(loaded.value?.offers ?? null);
  const deliveries = $derived(loaded.value?.deliveries ?? []);
  const sites = $derived(loaded.value?.sites ?? []);
  const images = $derived(loaded.value?.images ?? []);
  let refused = $state<Failure | null>(null);
  const failure = $derived(refused ?? loaded.failure);
  let checking = $state(false);
  let checked = $state.raw<StoreCheck | null>(null);
  /** Those that were chosen in a list, to be staged on. */
  const chosen = inAddress('devices');
  let bringing = $state(chosen.value !== '');
  let site = $state.raw<Site | null>(null);
  let plan = $state.raw<DeliveryPlan['items'] | null>(null);
  const placeWords: Record<Place | 'store', string> = {
    device: 'on each device, now',
    parent: 'at the parent, for all its devices',
    'site-store': 'in the store of their site',
    store: "in Barrow's stores, until the device asks",
  };
  let form = $state({ image: '', devices: chosen.value, place: 'device' as Place | 'store', makeRoom: false });
  let link = $state({
    kilobits: '',
    address: '',
    serve: '',
    fill: '',
    credential: '',
    from: '',
    to: '',
    on: '',
    zone: '',
    contact: '',
    asked: '',
    here: '',
  });

  async function attempt(work: () => Promise<unknown>) {
    try {
      await work();
      refused = null;
    } catch (error) {
      refused = failureOf(error);
    }
  }
  async function check() {
    checking = true;
    await attempt(async () => (checked = await client().checkStores()));
    checking = false;
  }
  const devicesOf = () => form.devices.split(/[\s,]+/).filter((d) => d !== '');
  async function send() {
    if (form.place === 'store') await client().putOffer(form.image, devicesOf());
    else await client().deliver({ image: form.image, devices: devicesOf(), place: form.place, makeRoom: form.makeRoom });
    await loaded.again();
  }
  async function look() {
    if (form.place === 'store') return;
    await attempt(
      async () => (plan = await client().planDelivery({ image: form.image, devices: devicesOf(), place: form.place as Place })),
    );
  }
  /** What was typed of a window; what is no day is for the service to refuse. */
  function windowFrom({ from, to, on, zone }: typeof link): WindowInput | null {
    if (from === '' || to === '') return null;
    const words = on.split(/[\s,]+/).filter((w) => w !== '');
    const dayOf = (word: string): number => dayNames.findIndex((d) => d.toLowerCase() === word.slice(0, 3).toLowerCase()) + 1;
    const days = words.map(dayOf);
    return { from, to, days: days.filter((d) => d > 0), dates: words.filter((_, i) => days[i] === 0), zone: zone.trim() || null };
  }
  function edit(s: Site) {
    site = s;
    link = {
      kilobits: s.linkKilobits === null ? '' : String(s.linkKilobits),
      address: s.storeAddress ?? '',
      serve: s.store?.serve ?? '',
      fill: s.store?.fill ?? '',
      credential: s.store?.credential ?? '',
      from: s.window?.from ?? '',
      to: s.window?.to ?? '',
      on: [...(s.window?.days.map((d) => dayNames[d - 1]!) ?? []), ...(s.window?.dates ?? [])].join(', '),
      zone: s.window?.zone ?? '',
      contact: s.contact ?? '',
      asked: s.asked ?? '',
      here: s.here?.told ? s.here.name : '',
    };
  }
  const underWay = $derived(deliveries.filter((d) => d.endedAt === null).length);
  const percent = (d: Delivery) => (d.totalBytes > 0 ? Math.min(100, (d.bytes / d.totalBytes) * 100) : 0);
  const holderOf = (d: Delivery) => (d.place === 'site-store' ? `store of ${d.holder.name}` : d.holder.name);
  const storable = $derived(images.filter((i) => i.withdrawn === null));
</script>

<div class="head">
  <h1>Staging</h1>
  {#if offers}<span class="quiet"
      >{offers.length} offered, {deliveries.filter((d) => d.state === 'verified' || d.state === 'brought').length} held ahead{#if underWay > 0},
        <b>{underWay} on the way</b>{/if}</span
    >{/if}
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={check} disabled={checking}
      >{checking ? 'Asking the stores…' : 'Check the stores'}</button
    >
    <button
      class="btn preset-filled-primary-600-400"
      onclick={() => {
        plan = null;
        bringing = true;
      }}><PackagePlus size={16} aria-hidden="true" />Stage an image…</button
    >
  {/if}
</div>
{#if failure}<Trouble {failure} />{/if}
{#if checked}
  <section class="sheet checks" aria-label="Stores" role="status">
    {#each checked.stores as s, nth (nth)}
      <span
        ><State word={s.works ? 'done' : 'broken'} />
        {s.protocol.toUpperCase()} store, <span class="mono">{s.address}:{s.port}</span>: {s.detail}</span
      >
    {/each}
    {#each checked.sites as s (s.site)}
      <span
        ><State word={s.works === null ? 'unknown' : s.works ? 'done' : 'broken'} /> told at {s.site}:
        <span class="mono">{s.address}</span>, {s.detail}</span
      >
    {/each}
  </section>
{/if}
{#if offers === null && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if offers}
  <h2>Brought ahead <span class="quiet">to where devices take it, and its digest checked there</span></h2>
  <section class="sheet" aria-label="Brought ahead">
    {#if deliveries.length === 0}
      <Empty title="Nothing was brought ahead yet"
        >What is staged on devices, controllers or at their site beforehand needs no window: <code
          >barrow staging put IMAGE DEVICE --at device</code
        >.</Empty
      >
    {:else}
      <table class="list">
        <thead
          ><tr
            ><th>Image</th><th>Held by</th><th>For</th><th>State</th><th class="wide">Moved</th><th class="num">Left</th><th>By</th><th
            ></th></tr
          ></thead
        >
        <tbody>
          {#each deliveries as d (d.id)}
            <tr class:plain={d.cause !== null}>
              <td><a class="name mono" href="/images/{d.image}">{d.file}</a></td>
              <td
                >{#if d.holder.id}<a class="name" href="/devices/{d.holder.id}">{d.holder.name}</a>{:else}{holderOf(d)}{/if}</td
              >
              <td
                >{d.place === 'device'
                  ? 'itself'
                  : someOf(
                      d.devices.map((x) => x.name),
                      3,
                    )}</td
              >
              <td><State word={d.state} /></td>
              <td class="wide"
                >{#if d.endedAt === null}<span class="meter-bar"><span style:width="{percent(d)}%"></span></span>{/if}<span class="quiet"
                  >{d.transfers.length === 0 && (d.state === 'verified' || d.state === 'brought')
                    ? 'it was there'
                    : `${octets(d.bytes)} of ${octets(d.totalBytes)}`}</span
                ></td
              >
              <td class="num">{d.secondsLeft === null ? '–' : duration(d.secondsLeft * 1000)}</td>
              <td class="quiet">{d.createdBy}, {when(d.createdAt)}</td>
              <td class="num nowrap">
                {#if d.transfers[0]}<a class="act" href="/transfers/{d.transfers[0]}">Story</a>{/if}
                {#if may('operator') && d.endedAt === null}<button
                    class="act"
                    onclick={() => attempt(() => client().tellDelivery(d.id, 'stop'))}>Stop</button
                  >{:else if may('operator') && (d.state === 'failed' || d.state === 'stopped')}<button
                    class="act"
                    onclick={() => attempt(() => client().tellDelivery(d.id, 'retry'))}>Again</button
                  >{/if}
              </td>
            </tr>
            {#if d.cause}<tr><td></td><td colspan="7"><Cause cause={d.cause} evidence={d.detail ? [d.detail] : []} /></td></tr>{/if}
            {#if d.removed.length > 0}<tr
                ><td></td><td colspan="7" class="quiet">Removed there to make room: <span class="mono">{d.removed.join(', ')}</span></td
                ></tr
              >{/if}
          {/each}
        </tbody>
      </table>
    {/if}
  </section>

  <h2>Offered <span class="quiet">under the exact name that a device asks for, to these addresses alone</span></h2>
  <section class="sheet" aria-label="Offered">
    {#if offers.length === 0}
      <Empty title="Nothing is offered">A rollout offers by itself, for as long as a device fetches.</Empty>
    {:else}
      <table class="list">
        <thead><tr><th>Name</th><th>At</th><th class="num">Size</th><th>Staged by</th><th>To</th><th></th></tr></thead>
        <tbody>
          {#each offers as o (o.id)}
            <tr>
              <td class="mono"><a class="name" href="/images/{o.image}">{o.file}</a></td>
              <td class="mono url">{o.url}</td>
              <td class="num">{octets(o.bytes)}</td>
              <td>{o.rollout === null ? 'a person' : o.rollout.startsWith('r-') ? 'a rollout' : 'a delivery'}</td>
              <td title={o.devices.map((d) => d.name).join(', ')}
                >{someOf(
                  o.devices.map((d) => d.name),
                  4,
                )}</td
              >
              <td class="num"
                >{#if o.rollout === null && may('operator')}<button class="act" onclick={() => attempt(() => client().dropOffer(o.image))}
                    >Drop</button
                  >{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </section>

  {#if dhcp.value && dhcp.value.length > 0}
    <h2>For a DHCP server <span class="quiet">what to enter there for devices that are told by it</span></h2>
    <section class="sheet" aria-label="For a DHCP server">
      <table class="list">
        <thead><tr><th>Site</th><th>For</th><th>Option</th><th>Value</th></tr></thead>
        <tbody>
          {#each dhcp.value as one, nth (nth)}
            {#each one.options as option, i (i)}
              <tr>
                <td>{i === 0 ? one.site : ''}</td>
                <td title={one.devices.join(', ')}>{i === 0 ? someOf(one.devices, 4) : ''}</td>
                <td><span class="mono">{option.code}</span> {option.name}</td>
                <td class="mono">{option.value}</td>
              </tr>
            {/each}
            {#each one.warnings as w, nth (nth)}<tr><td></td><td colspan="3" class="care">{w}</td></tr>{/each}
          {/each}
        </tbody>
      </table>
    </section>
  {/if}

  <h2>Sites</h2>
  <section class="sheet" aria-label="Sites">
    {#if sites.length === 0}<Empty title="No sites yet">A site is there as soon as a network or a device names it.</Empty>{/if}
    <table class="list" class:none={sites.length === 0}>
      <thead
        ><tr
          ><th>Site</th><th class="num">Devices</th><th class="num">Link</th><th>Sees Barrow at</th><th>Store of its own</th><th
            >Goes down</th
          ><th class="num">Waits for it</th><th class="num">All there in</th><th></th></tr
        ></thead
      >
      <tbody>
        {#each sites as s (s.name)}
          <tr>
            <td class="whole"><b>{s.name}</b></td>
            <td class="num">{s.devices}</td>
            <td class="num whole"
              >{#if s.linkKilobits === null}<span class="quiet">not limited</span>{:else}{s.linkKilobits} kbit/s{/if}</td
            >
            <td
              >{#if s.storeAddress}<span class="mono">{s.storeAddress}</span>{:else}<span class="quiet whole">where they listen</span
                >{/if}</td
            >
            <td class="mono">{s.store?.serve ?? '–'}</td>
            <td
              >{#if s.windowText}{s.windowText}{:else}<span class="quiet">at any time</span>{/if}</td
            >
            <td class="num">{s.waitingBytes === 0 ? '–' : octets(s.waitingBytes)}</td>
            <td class="num">{s.secondsLeft === null ? '–' : duration(s.secondsLeft * 1000)}</td>
            <td class="num"
              >{#if may('admin')}<button class="act" onclick={() => edit(s)}>Change…</button>{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </section>
{/if}

{#if bringing}
  <FormDialog
    title="Stage an image"
    about="It is refused for hardware that it is not for. No device is restarted by this."
    word="Stage it"
    onclose={() => {
      bringing = false;
      chosen.value = '';
    }}
    {send}
  >
    <label class="field"
      ><span>Image</span><select class="select" bind:value={form.image} required>
        {#each storable as i (i.sha256)}<option value={i.sha256}>{i.file}</option>{/each}
      </select></label
    >
    <label class="field"
      ><span>Devices</span><input class="input" bind:value={form.devices} placeholder="names, addresses or serials" required /></label
    >
    <fieldset class="field">
      <legend>Where</legend>
      {#each [...places, 'store'] as const as place (place)}
        <label class="choice"><input type="radio" class="radio" bind:group={form.place} value={place} /> {placeWords[place]}</label>
      {/each}
    </fieldset>
    {#if form.place !== 'store'}
      <label class="choice"
        ><input type="checkbox" class="checkbox" bind:checked={form.makeRoom} /> make room by removing what nobody needs, as the family allows</label
      >
      <div>
        <button type="button" class="btn preset-outlined-surface-300-700" onclick={look} disabled={form.image === '' || form.devices === ''}
          >Look what would happen</button
        >
      </div>
      {#if plan}
        <ul class="plan">
          {#each plan as p (p.holder)}
            <li>
              <b>{p.holder}</b>: {p.problem ??
                (p.alreadyThere ? 'has it already' : p.fits === false ? 'has no room for it yet' : 'can take it')}
              {#if p.freeBytes !== null}<span class="quiet"> · {octets(p.freeBytes)} free, {octets(p.totalBytes)} needed</span>{/if}
              {#if p.wouldRemove.length > 0}<br />to make room this is removed: <span class="mono">{p.wouldRemove.join(', ')}</span>{/if}
              {#if p.arms}<br /><span class="care">from then on its next reset, whatever causes it, brings the image</span>{/if}
            </li>
          {/each}
        </ul>
      {/if}
    {/if}
  </FormDialog>
{/if}
{#if site}
  <FormDialog
    title={site.name}
    about="How Barrow reaches this site and its devices reach Barrow, and when they may go down."
    word="Keep"
    onclose={() => (site = null)}
    send={async () => {
      await client().setSite(site!.name, {
        linkKilobits: link.kilobits === '' ? null : Number(link.kilobits),
        storeAddress: link.address || null,
        contact: link.contact.trim() || null,
        asked: link.asked.trim() || null,
        ...(link.here.trim() === (site!.here?.told ? site!.here.name : '') ? {} : { here: link.here.trim() || null }),
        window: windowFrom(link),
        store: link.serve && link.fill ? { serve: link.serve, fill: link.fill, credential: link.credential || null } : null,
      });
      await loaded.again();
    }}
  >
    <div class="pair">
      <label class="field"
        ><span>Link, in kilobits a second</span><input
          class="input"
          type="number"
          min="1"
          bind:value={link.kilobits}
          placeholder="not limited"
        /></label
      >
      <label class="field"
        ><span>Its devices see Barrow at</span><input
          class="input"
          bind:value={link.address}
          placeholder="where the stores listen"
        /></label
      >
    </div>
    <div class="pair">
      <label class="field"
        ><span>Its devices go down from</span><input class="input" type="time" bind:value={link.from} required={link.to !== ''} /></label
      >
      <label class="field"><span>until</span><input class="input" type="time" bind:value={link.to} required={link.from !== ''} /></label>
    </div>
    <div class="pair">
      <label class="field"
        ><span>on these days</span><input class="input" bind:value={link.on} placeholder="every day; Sat, Sun or 2026-11-28" /></label
      >
      <label class="field"
        ><span>in the time zone</span><input class="input" bind:value={link.zone} placeholder="that of the service" /></label
      >
    </div>
    <label class="field"
      ><span>Who is there, and how they are reached</span><input
        class="input"
        bind:value={link.contact}
        placeholder="for the night sheet"
        maxlength="200"
      /></label
    >
    <label class="field"
      ><span>What somebody there said of lifts, alarms and doors that hang on its devices</span><input
        class="input"
        bind:value={link.asked}
        placeholder="nobody was asked"
        maxlength="300"
      /></label
    >
    <label class="field"
      ><span>Barrow's own machine hangs here on</span><input
        class="input"
        bind:value={link.here}
        placeholder={site.here && !site.here.told ? `${site.here.name}, so its table tells` : 'a device, if it does'}
      /></label
    >
    <label class="field"
      ><span>A store at the site, as its devices see it</span><input
        class="input"
        bind:value={link.serve}
        placeholder="tftp://ADDRESS:PORT"
      /></label
    >
    <div class="pair">
      <label class="field"
        ><span>How Barrow fills it</span><input class="input" bind:value={link.fill} placeholder="sftp://ADDRESS/FOLDER" /></label
      >
      <label class="field"><span>Credential for that</span><input class="input" bind:value={link.credential} /></label>
    </div>
  </FormDialog>
{/if}

<style>
  .none {
    display: none;
  }
  h2 {
    margin: 1.1rem 0 0.4rem;
  }
  .whole {
    white-space: nowrap;
  }
  h2:first-of-type {
    margin-top: 0.25rem;
  }
  h2 .quiet {
    font-weight: 400;
    font-size: 0.875rem;
  }
  .checks {
    display: grid;
    gap: 0.3rem;
    padding: 0.6rem 1rem;
    margin-bottom: 0.75rem;
  }
  .wide {
    width: 11rem;
  }
  .plain td {
    border-bottom-color: transparent;
  }
  .nowrap {
    white-space: nowrap;
  }
  .act {
    color: var(--now);
    font-weight: 550;
    margin-left: 0.6rem;
  }
  .url {
    overflow-wrap: anywhere;
  }
  .field {
    display: grid;
    gap: 0.25rem;
  }
  .choice {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .plan {
    display: grid;
    gap: 0.4rem;
    max-height: 14rem;
    overflow: auto;
  }
  .care {
    color: var(--care);
  }
</style>
