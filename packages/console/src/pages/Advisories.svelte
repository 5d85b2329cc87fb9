<script lang="ts">
  import { exposures, type AdvisoryDetail, type Exposure } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, may } from '../lib/session.svelte.js';
  import { goTo, place } from '../lib/place.js';

  let picker = $state<HTMLInputElement | null>(null);
  let removing = $state(false);
  let mapping = $state<AdvisoryDetail['products'][number] | null>(null);
  let form = $state({ family: '', models: '' });
  const id = $derived(place.params['id'] ?? null);

  const loaded = new Loaded(async () => {
    const asked = id;
    const [list, ranked, families, detail] = await Promise.all([
      client().advisories(),
      client().rankByAdvisories(),
      client().families(),
      asked === null ? null : client().advisory(asked),
    ]);
    return { list, ranked, families, detail };
  }, ['advisories', 'devices', 'images', 'targets']);
  const list = $derived(loaded.value?.list ?? null);
  const ranked = $derived(loaded.value?.ranked ?? []);
  const families = $derived(loaded.value?.families ?? []);
  const detail = $derived(loaded.value?.detail ?? null);
  async function add(files: FileList | null) {
    await loaded.act(async () => {
      for (const file of files ?? []) await client().addAdvisory(await file.text());
    });
  }
  function ask(product: AdvisoryDetail['products'][number]) {
    mapping = product;
    form = {
      family: product.mapping?.family ?? product.proposal?.family ?? '',
      models: (product.mapping?.models ?? product.proposal?.models ?? []).join(' '),
    };
  }
  const confirm = () =>
    client().mapProduct({
      vendor: mapping!.vendor ?? '',
      product: mapping!.product,
      family: form.family === '' ? null : form.family,
      models: form.family === '' ? [] : form.models.split(/[\s,]+/).filter((m) => m !== ''),
    });
  const words: Record<Exposure, string> = {
    exposed: 'exposed',
    fixed: 'fixed',
    'not-affected': 'not affected',
    'under-investigation': 'under investigation',
    unknown: 'unknown',
  };
  const tones: Record<Exposure, string> = {
    exposed: 'bad',
    fixed: 'good',
    'not-affected': 'good',
    'under-investigation': 'care',
    unknown: 'quiet',
  };
  const onopen = ({ device }: { device: string }) => goTo(`/devices/${device}`);
  const away = (hops: number): string => (hops === 1 ? '1 image away' : `${hops} images away`);
</script>

{#snippet mark(exposure: Exposure)}
  <span class="exposure" style:--tone="var(--{tones[exposure]})">
    <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
      {#if exposure === 'exposed'}<rect x="1.8" y="1.8" width="8.4" height="8.4" fill="currentColor" />
      {:else if exposure === 'under-investigation'}<path d="M6 1.8l4.6 8.2H1.4z" class="thin" />
      {:else if exposure === 'unknown'}<circle cx="6" cy="6" r="4.2" class="thin" />
      {:else}<circle cx="6" cy="6" r="4.4" fill="currentColor" />{/if}
    </svg>{words[exposure]}</span
  >
{/snippet}

<div class="head">
  <h1>Advisories</h1>
  <span class="quiet">Which devices they touch, and how far away the version is that mends it.</span>
  <span class="grow"></span>
  {#if may('operator')}
    <button class="btn preset-filled-primary-600-400" onclick={() => picker?.click()}>Add an advisory (CSAF 2.0)</button>
    <input
      bind:this={picker}
      type="file"
      accept=".json"
      multiple
      hidden
      aria-label="Advisory files"
      onchange={(e) => add(e.currentTarget.files)}
    />
  {/if}
</div>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}

{#if list === null && !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if list && list.length === 0}
  <div class="sheet">
    <Empty title="No advisories yet">Take one in with the button above, or <code>barrow advisory add FILE</code>.</Empty>
  </div>
{:else if list}
  <div class="columns">
    <nav class="sheet" aria-label="Advisories">
      <a class="one" href="/advisories" aria-current={id === null ? 'page' : undefined}
        ><b>The fleet, most exposed first</b><span class="quiet"
          >{ranked.length === 1 ? '1 device' : `${ranked.length} devices`} exposed</span
        ></a
      >
      {#each list as a (a.id)}
        <a class="one" href="/advisories/{encodeURIComponent(a.id)}" aria-current={id === a.id ? 'page' : undefined}>
          <b>{a.id} <span class="score">{a.score ?? ''} {a.severity ?? ''}</span></b>
          <span>{a.title}</span>
          <span class="quiet"
            >{a.devices.exposed ?? 0} exposed{#if a.unmapped > 0}, <span class="care"
                >{a.unmapped === 1 ? '1 product' : `${a.unmapped} products`} to be confirmed</span
              >{/if}{#if a.fails.length > 0}, <span class="bad">faulty document</span>{/if}</span
          >
        </a>
      {/each}
    </nav>
    <div>
      {#if id === null}
        <section class="sheet" aria-label="The fleet, most exposed first">
          {#if ranked.length === 0}<Empty title="No device is exposed">As far as the advisories and their products are known.</Empty>
          {:else}
            <VirtualTable rows={ranked} label="Devices by how exposed they are" columns={6} maxHeight="calc(100vh - 7rem)" {onopen}>
              {#snippet head()}<tr
                  ><th>Device</th><th class="if-room">Site</th><th>Firmware</th><th class="num">Score</th><th>Advisories</th><th
                    >Mended by</th
                  ></tr
                >{/snippet}
              {#snippet row(d)}
                <td><a class="name" tabindex="-1" href="/devices/{d.device}">{d.name}</a></td>
                <td class="if-room">{d.site}</td>
                <td class="mono">{d.firmware}</td>
                <td class="num">{d.score ?? '–'}</td>
                <td>{d.advisories.map((x) => x.id).join(', ')}</td>
                <td class="cut" title={d.noFix}
                  >{#if d.hops !== null}<span class="mono">{d.fixedBy}</span>, {away(d.hops)}{:else}<span class="bad">no way:</span>
                    {d.noFix}{/if}</td
                >
              {/snippet}
            </VirtualTable>
          {/if}
        </section>
      {:else if detail}
        <section class="sheet text" aria-label={detail.title}>
          <h2>{detail.title}</h2>
          <p class="quiet">
            {detail.id}, {detail.publisher}, edition {detail.edition} of {detail.releasedAt.slice(0, 10)}, base score {detail.score ??
              'not told'}
          </p>
          {#if detail.fails.length > 0}
            <p class="bad">
              <b
                >The document fails {detail.fails.length === 1 ? 'a mandatory test' : `${detail.fails.length} mandatory tests`} of CSAF 2.0: nobody
                is cleared by it.</b
              >
            </p>
            <ul>
              {#each detail.fails as f, nth (nth)}<li class="wrap">{f}</li>{/each}
            </ul>
          {/if}
          {#if detail.summary}<p>{detail.summary}</p>{/if}
          {#if may('operator')}<p><button class="anchor" onclick={() => (removing = true)}>Remove this advisory</button></p>{/if}
          {#each detail.vulnerabilities as v, nth (nth)}{#each v.remedies as r, nth (nth)}<p>
                <b>What to do:</b>
                {r.details}
              </p>{/each}{/each}
        </section>
        <section class="sheet" aria-label="Products">
          <table class="list">
            <thead><tr><th>Product</th><th>Versions</th><th>What it is here</th><th></th></tr></thead>
            <tbody>
              {#each detail.products as p, nth (nth)}
                <tr>
                  <td class="wrap">{p.vendor} {p.product}</td>
                  <td class="mono small"
                    >{#each p.versions as v, nth (nth)}<div>
                        {v.version ?? 'every version'} <span class="quiet">{v.statuses.join(', ')}</span>
                      </div>{/each}</td
                  >
                  <td class="wrap">
                    {#if p.mapping}{p.mapping.family === null
                        ? 'nothing of it is here'
                        : `${p.mapping.family} ${p.mapping.models.join(', ')}`}<span class="quiet">, said by {p.mapping.confirmedBy}</span>
                    {:else if p.proposal}<span class="care">perhaps {p.proposal.family} {p.proposal.models.join(', ')}</span>
                      <span class="quiet">({p.proposal.why})</span>
                    {:else}<span class="care">nobody has said</span>{/if}
                  </td>
                  <td class="num"
                    >{#if may('operator')}<button class="anchor" onclick={() => ask(p)}>{p.mapping ? 'Change' : 'Say what it is'}</button
                      >{/if}</td
                  >
                </tr>
              {/each}
            </tbody>
          </table>
        </section>
        <section class="sheet" aria-label="Devices">
          {#if detail.exposed.length === 0}<Empty title="It is about no device here">As far as its products are confirmed.</Empty>
          {:else}
            <p class="quiet sums">
              {exposures
                .filter((e) => (detail?.devices[e] ?? 0) > 0)
                .map((e) => `${detail?.devices[e]} ${words[e]}`)
                .join(', ')}
            </p>
            <VirtualTable rows={detail.exposed} label="Devices that it may touch" columns={5} maxHeight="70vh" {onopen}>
              {#snippet head()}<tr><th>Device</th><th class="if-room">Site</th><th>Firmware</th><th>Exposure</th><th>Mended by</th></tr
                >{/snippet}
              {#snippet row(d)}
                <td><a class="name" tabindex="-1" href="/devices/{d.device}">{d.name}</a></td>
                <td class="if-room">{d.site}</td>
                <td class="mono">{d.firmware ?? 'unknown'}</td>
                <td>{@render mark(d.exposure)}</td>
                <td class="cut" title={d.noFix ?? d.reason}
                  >{#if d.fixedBy}<span class="mono">{d.fixedBy.version}</span>, {away(d.fixedBy.hops)}{#if d.fixedBy.inTarget}<span
                        class="quiet">, and its target does it</span
                      >{/if}{:else}<span class="quiet">{d.noFix ?? d.reason ?? ''}</span>{/if}</td
                >
              {/snippet}
            </VirtualTable>
          {/if}
        </section>
      {/if}
    </div>
  </div>
{/if}

{#if mapping}
  <FormDialog
    title="{mapping.vendor ?? ''} {mapping.product}"
    about="Say once what this product is here. Every advisory that names it goes by that."
    word="Confirm"
    onclose={() => (mapping = null)}
    send={confirm}
  >
    <label class="label"
      ><span class="label-text">Family</span><select class="select" bind:value={form.family}
        ><option value="">nothing of it is here</option>{#each families as f (f.family)}<option value={f.family}>{f.title}</option
          >{/each}</select
      ></label
    >
    {#if form.family !== ''}<label class="label"
        ><span class="label-text">Models, with blanks between them; none means all</span><input
          class="input"
          bind:value={form.models}
        /></label
      >{/if}
  </FormDialog>
{/if}

{#if removing && detail}
  <FormDialog
    title="Remove {detail.id}?"
    about="Devices are no longer compared with it. It can be added again from its file."
    word="Remove it"
    onclose={() => (removing = false)}
    send={async () => {
      await client().removeAdvisory(detail!.id);
      goTo('/advisories');
    }}
  />
{/if}

<style>
  .columns {
    display: grid;
    grid-template-columns: minmax(0, 19rem) minmax(0, 1fr);
    gap: 1rem;
    align-items: start;
  }
  .one {
    display: grid;
    gap: 0.1rem;
    padding: 0.6rem 0.9rem;
    color: var(--ink);
    border-left: 3px solid transparent;
    border-bottom: 1px solid color-mix(in oklab, var(--line) 60%, transparent);
  }
  .one:hover {
    text-decoration: none;
    background: color-mix(in oklab, var(--now) 6%, transparent);
  }
  .one[aria-current='page'] {
    border-left-color: var(--now);
    background: color-mix(in oklab, var(--now) 8%, transparent);
  }
  .score {
    float: right;
    font-weight: 550;
    color: var(--quiet);
  }
  section {
    margin-bottom: 1rem;
    overflow: auto;
  }
  .text {
    padding: 0.7rem 0.9rem;
    display: grid;
    gap: 0.35rem;
  }
  h2 {
    font-weight: 650;
  }
  .sums {
    padding: 0.5rem 0.9rem 0;
  }
  .exposure {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    color: var(--tone);
    font-weight: 550;
    white-space: nowrap;
  }
  .thin {
    fill: none;
    stroke: currentColor;
    stroke-width: 1.5;
    stroke-linejoin: round;
  }
  td {
    white-space: nowrap;
  }
  .wrap {
    white-space: normal;
    overflow-wrap: anywhere;
  }
  .small {
    font-size: 0.8125rem;
    white-space: nowrap;
  }
  .num {
    text-align: right;
    white-space: nowrap;
  }
  .care {
    color: var(--care);
  }
  .bad {
    color: var(--bad);
  }
</style>
