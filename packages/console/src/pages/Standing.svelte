<script lang="ts">
  import Pin from '@lucide/svelte/icons/pin';
  import Plus from '@lucide/svelte/icons/plus';
  import Trash2 from '@lucide/svelte/icons/trash-2';
  import {
    distances,
    type DeviceCounts,
    type FamilySummary,
    type PinInput,
    type PinView,
    type StandingGroup,
    type StandingSummary,
    type Target,
    type TargetInput,
  } from '@barrow/core';
  import type { DeviceQuery } from '@barrow/client';
  import { previewText } from '@barrow/client';
  import Choose from '../parts/Choose.svelte';
  import DeviceActs from '../parts/DeviceActs.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import PathSteps from '../parts/PathSteps.svelte';
  import TargetSet from '../parts/TargetSet.svelte';
  import StandingPicture from '../parts/StandingPicture.svelte';
  import State from '../parts/State.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { inAddress, oneInAddress } from '../lib/address.js';
  import { DevicePages, deviceListOf } from '../lib/device-pages.svelte.js';
  import { lanesOf, type Chosen } from '../lib/lanes.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { count } from '../lib/format.js';
  import { goTo } from '../lib/place.js';
  import { saveAs } from '../lib/save.js';
  import { choosingOf } from '../lib/choosing.js';
  import { chosenDevices } from '../lib/selection.svelte.js';
  import { removeTargetUndoably, setTargetUndoably, undo } from '../lib/undo.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';

  /** All that the page shows, but the rows. */
  interface Shown {
    readonly counts: DeviceCounts;
    readonly groups: StandingGroup[];
    readonly summary: StandingSummary;
    readonly targets: Target[];
    readonly pins: PinView[];
    readonly families: FamilySummary[];
  }
  const site = inAddress('site');
  const distance = oneInAddress('distance', distances);
  const group = inAddress('group');
  /** What the table is narrowed to: a distance, or one version of a lane in it. */
  const chosen = $derived<Chosen | null>(distance.value === '' ? null : { distance: distance.value, group: group.value || null });
  let refused = $state<Failure | null>(null);
  let showTargets = $state(false);
  let setting = $state<'target' | 'set' | 'pin' | null>(null);

  const ofSite = (): DeviceQuery => (site.value === '' ? {} : { site: site.value });
  const shown = new Loaded<Shown>(async () => {
    const [counts, groups, summary, targets, pins, families] = await Promise.all([
      client().deviceCounts(ofSite()),
      client().standingGroups(ofSite()),
      client().standing(),
      client().targets(),
      client().pins(),
      client().families(),
    ]);
    return { counts, groups, summary, targets, pins, families };
  }, [...deviceListOf]);
  const pages = new DevicePages(() => ({
    ...ofSite(),
    ...(chosen === null ? {} : chosen.group === null ? { distance: chosen.distance } : { group: chosen.group }),
  }));
  const failure = $derived(refused ?? shown.failure ?? pages.failure);
  const counts = $derived(shown.value?.counts);
  const summary = $derived(shown.value?.summary);
  const targets = $derived(shown.value?.targets ?? []);
  const pins = $derived(shown.value?.pins ?? []);
  const families = $derived(shown.value?.families ?? []);
  const lanes = $derived(lanesOf(shown.value?.groups ?? []));
  const titles = $derived(new Map(families.map((f) => [f.family, f.title])));
  const marked = $derived(chosenDevices.all);
  const choosing = choosingOf(pages, (error) => (refused = failureOf(error)));
  const choose = (next: Chosen | null) => {
    const isSame = next === null || JSON.stringify(chosen) === JSON.stringify(next);
    distance.value = isSame ? '' : next.distance;
    group.value = isSame ? '' : (next.group ?? '');
  };

  const none = { family: '', version: '', model: '', revision: '', site: '', tag: '', device: '', from: '', unreleased: false };
  let form = $state({ ...none });
  /** What may be a slip in the target that was set last. */
  let remarks = $state.raw<readonly string[]>([]);
  const models = $derived(families.find((f) => f.family === form.family)?.models ?? []);
  const orNull = (text: string): string | null => (text.trim() === '' ? null : text.trim());
  const asked = (): TargetInput => ({
    family: form.family,
    version: form.version.trim(),
    model: orNull(form.model),
    hardwareRevision: orNull(form.revision),
    site: orNull(form.site),
    tag: orNull(form.tag),
    device: orNull(form.device),
    fromFamilies: form.from === '' ? [] : [form.from],
    acceptUnreleased: form.unreleased,
  });
  /** What the store has of the family, newest first. */
  let versions = $state.raw<readonly string[]>([]);
  $effect(() => {
    const { family } = form;
    versions = [];
    if (family === '') return;
    void client()
      .images()
      .then((images) => {
        if (form.family === family)
          versions = [...new Set(images.filter((i) => i.family === family && i.component === 'system').map((i) => i.version))];
      })
      .catch(() => undefined);
  });
  /** What would follow, told before it is set. */
  let preview = $state.raw<readonly string[]>([]);
  $effect(() => {
    const would = asked();
    if (setting !== 'target' || would.family === '' || would.version === '') return void (preview = []);
    const timer = setTimeout(
      () =>
        void client()
          .previewTarget(would)
          .then((p) => (preview = previewText(p)))
          .catch((error: unknown) => (preview = [failureOf(error).why])),
      250,
    );
    return () => clearTimeout(timer);
  });
  const setTarget = async () => {
    const made = await setTargetUndoably(asked());
    remarks = made.remarks;
    form = { ...none };
  };
  let pin = $state({ device: '', reason: '', askAgain: '' });
  const setPin = async () => {
    const made = await client().setPin({ ...pin, device: pin.device.trim() });
    const was = pins.find((p) => p.device === made.device);
    undo.did(`${made.name} is pinned at ${made.version}.`, () => (was ? client().setPin(pinAgain(was)) : client().removePin(made.device)));
    pin = { device: '', reason: '', askAgain: '' };
  };
  const pinAgain = ({ device, reason, askAgain }: PinView): PinInput => ({ device, reason, askAgain });
  const removePin = async (p: PinView) => {
    await client().removePin(p.device);
    undo.did(`${p.name} is no longer pinned at ${p.version}.`, () => client().setPin(pinAgain(p)));
  };
  const saveSet = async () => saveAs('targets.yaml', new Blob([await client().targetsAsSet()], { type: 'application/yaml' }));
  async function attempt(work: () => Promise<unknown>) {
    try {
      await work();
      refused = null;
    } catch (error) {
      refused = failureOf(error);
    }
  }
</script>

<div class="head">
  <h1>Standing</h1>
  <select class="select" aria-label="Site" bind:value={site.value}>
    <option value="">all sites</option>
    {#each counts?.all.sites ?? [] as s (s)}<option>{s}</option>{/each}
  </select>
  <span class="grow"></span>
  {#if shown.value !== null}<button
      class="btn preset-outlined-surface-300-700"
      aria-expanded={showTargets}
      onclick={() => (showTargets = !showTargets)}
      >{targets.length === 1 ? '1 target' : `${targets.length} targets`}{pins.length > 0
        ? `, ${pins.length === 1 ? '1 pin' : `${pins.length} pins`}`
        : ''}</button
    >{/if}
  {#if may('operator')}
    <button class="btn preset-outlined-surface-300-700" onclick={() => (setting = 'pin')}
      ><Pin size={15} aria-hidden="true" />Pin a device</button
    >
    <button class="btn preset-filled-primary-600-400" onclick={() => (setting = 'target')}
      ><Plus size={15} aria-hidden="true" />Set a target</button
    >
  {/if}
</div>
{#each remarks as remark, nth (nth)}<p class="remark" role="status">The target was set, but {remark}.</p>{/each}
{#if failure}<Trouble {failure} />{/if}

{#if showTargets}
  <section class="sheet targets" aria-label="Targets">
    {#if targets.length + pins.length === 0}<Empty title="No targets yet">Set the version that a family should run.</Empty>{/if}
    <p class="sets">
      {#if may('operator')}<button class="anchor" onclick={() => (setting = 'set')}>Set all targets of a set…</button>{/if}
      {#if targets.length > 0}<button class="anchor" onclick={() => attempt(saveSet)}>Keep these as the file of a set</button>{/if}
    </p>
    {#if targets.length > 0}
      <table class="list">
        <thead
          ><tr><th>Family</th><th>Version</th><th>For</th><th>Crossing from</th><th class="num">Devices</th><th>Set by</th><th></th></tr
          ></thead
        >
        <tbody>
          {#each targets as t (t.id)}
            <tr>
              <td>{titles.get(t.family) ?? t.family}</td>
              <td class="mono"
                >{t.version}{#if t.acceptUnreleased}<span class="care"> unreleased</span>{/if}</td
              >
              <td>{t.scope}</td>
              <td>{t.fromFamilies.map((f) => titles.get(f) ?? f).join(', ') || '–'}</td>
              <td class="num">{t.devices}</td>
              <td class="quiet">{t.setBy}</td>
              <td class="num">
                {#if may('operator')}<button
                    class="icon"
                    aria-label="Remove the target {t.version} of {t.family}"
                    onclick={() => attempt(() => removeTargetUndoably(t))}><Trash2 size={15} /></button
                  >{/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
    {#if pins.length > 0}
      <table class="list">
        <thead><tr><th>Pinned</th><th>At</th><th>Asked again after</th><th>Reason</th><th>Set by</th><th></th></tr></thead>
        <tbody>
          {#each pins as p (p.device)}
            <tr>
              <td><a class="name" href="/devices/{p.device}">{p.name}</a></td>
              <td class="mono">{p.version}</td>
              <td
                >{p.askAgain}{#if p.due}<span class="care"> now</span>{/if}</td
              >
              <td>{p.reason}</td>
              <td class="quiet">{p.setBy}</td>
              <td class="num">
                {#if may('operator')}<button class="icon" aria-label="Let {p.name} go" onclick={() => attempt(() => removePin(p))}
                    ><Trash2 size={15} /></button
                  >{/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/if}
  </section>
{/if}

{#if (shown.value === null || pages.total === null) && !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if counts?.all.total === 0}
  <div class="sheet">
    <Empty title="No devices yet">What nobody has found stands nowhere. <a class="anchor" href="/where">Where to look</a></Empty>
  </div>
{:else if counts && pages.total !== null}
  <StandingPicture {lanes} {titles} {chosen} onchoose={choose} />
  {#if summary && summary.lacking.length > 0}
    <section class="sheet lacking" aria-label="What the store lacks">
      <b>The image store lacks</b>
      <ul>
        {#each summary.lacking as l, nth (nth)}
          <li>
            {l.wanted}, for {l.devices === 1 ? l.names[0] : `${l.devices} devices`}
            <span class="quiet">({l.names.join(', ')}{l.devices > l.names.length ? ', …' : ''})</span>
          </li>
        {/each}
      </ul>
    </section>
  {/if}
  {#if summary && summary.pinsDue.length > 0}
    <section class="sheet lacking" aria-label="Pins to ask again">
      <b>To ask again</b>
      <ul>
        {#each summary.pinsDue as p (p.device)}<li>
            {p.name} is pinned at {p.version} since {p.reason}: that was to be asked again after {p.askAgain}
          </li>{/each}
      </ul>
    </section>
  {/if}
  <p class="quiet told" role="status">
    {count(pages.length, 'device')}{#if chosen}, chosen from {counts.fitting.total}
      <button class="anchor" onclick={() => choose(null)}>Show all</button>{/if}
  </p>
  {#if marked.length > 0 && may('operator')}<DeviceActs devices={marked} onclear={() => chosenDevices.clear()} />{/if}
  <VirtualTable
    rows={pages}
    label="Devices and how they stand"
    columns={8}
    maxHeight="70vh"
    onopen={(d) => goTo(`/devices/${d.id}`)}
    ontoggle={choosing.toggle}
    isChosen={(d) => chosenDevices.has(d.id)}
  >
    {#snippet head()}
      <tr
        ><th class="choose"
          ><Choose
            ofAll
            label="Choose all {pages.length} that are shown"
            checked={choosing.hasAll()}
            some={marked.length > 0}
            ontoggle={choosing.toggleAll}
          /></th
        ><th>Device</th><th>Site</th><th>Model</th><th>Firmware</th><th>Target</th><th>Standing</th><th>Path, or why there is none</th></tr
      >
    {/snippet}
    {#snippet row(d, index)}
      <td class="choose"
        ><Choose label="Choose {d.name}" checked={chosenDevices.has(d.id)} ontoggle={(toHere) => choosing.toggle(d, toHere, index)} /></td
      >
      <td><a class="name" tabindex="-1" href="/devices/{d.id}">{d.name}</a></td>
      <td>{d.site}</td>
      <td>{[d.model, d.hardwareRevision, d.variant].filter(Boolean).join(' ') || '–'}</td>
      <td class="mono"
        >{d.firmware ?? 'unknown'}{#if d.armed}<b class="care" title="Its next reset, whatever causes it, brings {d.armed.version}">
            armed: {d.armed.version}</b
          >{/if}</td
      >
      <td class="mono" title={d.targetWhy}>{d.target ?? '–'}</td>
      <td
        ><State word={d.standing} />{#if d.pin}<span class="quiet"> pinned</span>{/if}</td
      >
      <td class="why">
        {#if d.path.length > 0}<PathSteps path={d.path} />{#if d.standingReason}<span class="quiet">{d.standingReason}</span
            >{/if}{:else}<span class="quiet" title={d.standingReason ?? ''}>{d.standingReason ?? (d.pin ? d.targetWhy : '')}</span>{/if}
      </td>
    {/snippet}
  </VirtualTable>
{/if}

{#if setting === 'target'}
  <FormDialog
    title="Set a target"
    about="The version that these devices should run. The narrowest rule wins: a device before a tag, hardware revision, model and site."
    word="Set it"
    onclose={() => (setting = null)}
    send={setTarget}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Family</span><select class="select" required bind:value={form.family}
          ><option value=""></option>{#each families as f (f.family)}<option value={f.family}>{f.title}</option>{/each}</select
        ></label
      >
      <label class="label"
        ><span class="label-text">Version</span><input class="input mono" required list="versions-here" bind:value={form.version} /></label
      >
      <datalist id="versions-here"
        >{#each versions as v (v)}<option value={v}></option>{/each}</datalist
      >
      <label class="label"
        ><span class="label-text">Model</span><select class="select" bind:value={form.model}
          ><option value="">every model</option>{#each [...new Set(models.map((m) => m.model))] as m (m)}<option>{m}</option>{/each}</select
        ></label
      >
      <label class="label"
        ><span class="label-text">Hardware revision</span><input class="input" bind:value={form.revision} placeholder="any" /></label
      >
      <label class="label"
        ><span class="label-text">Site</span><select class="select" bind:value={form.site}
          ><option value="">every site</option>{#each counts?.all.sites ?? [] as s (s)}<option>{s}</option>{/each}</select
        ></label
      >
      <label class="label"><span class="label-text">Tag</span><input class="input" bind:value={form.tag} placeholder="any" /></label>
      <label class="label"
        ><span class="label-text">One device</span><input class="input" bind:value={form.device} placeholder="any" /></label
      >
      <label class="label"
        ><span class="label-text">Devices that cross over from</span><select class="select" bind:value={form.from}
          ><option value="">no other family</option>{#each families.filter((f) => f.family !== form.family) as f (f.family)}<option
              value={f.family}>{f.title}</option
            >{/each}</select
        ></label
      >
    </div>
    <label class="check"><input type="checkbox" class="checkbox" bind:checked={form.unreleased} /> A candidate or beta is meant</label>
    <div class="preview" role="status">
      {#each preview as line, i (i)}<p class:quiet={i > 0}>{line}</p>{/each}
    </div>
  </FormDialog>
{:else if setting === 'set'}
  <TargetSet onclose={() => (setting = null)} />
{:else if setting === 'pin'}
  <FormDialog
    title="Pin a device"
    about="It stays at the version that it runs, whatever the targets say, until somebody is asked again."
    word="Pin it"
    onclose={() => (setting = null)}
    send={setPin}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Device</span><input
          class="input"
          required
          bind:value={pin.device}
          placeholder="name, address or serial"
        /></label
      >
      <label class="label"
        ><span class="label-text">Ask again after</span><input class="input" type="date" required bind:value={pin.askAgain} /></label
      >
    </div>
    <label class="label"><span class="label-text">Reason</span><input class="input" required bind:value={pin.reason} /></label>
  </FormDialog>
{/if}

<style>
  .sets {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 1.25rem;
    padding: 0.6rem 0.6rem 0.2rem;
  }
  .preview {
    display: grid;
    gap: 0.25rem;
  }
  .choose {
    width: 1.6rem;
    padding-right: 0;
  }
  .remark {
    color: var(--care);
    margin-bottom: 0.6rem;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
  .select {
    width: auto;
    background-color: var(--sheet);
  }
  .targets {
    margin-bottom: 0.8rem;
    max-height: 45vh;
    overflow: auto;
  }
  .lacking {
    padding: 0.6rem 0.9rem;
    margin-top: 0.8rem;
    border-left: 4px solid var(--care);
  }
  .lacking ul {
    margin-top: 0.15rem;
  }
  .told {
    margin: 0.8rem 0 0.4rem;
  }
  .why {
    max-width: 34rem;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .care {
    color: var(--care);
  }
  .icon {
    color: var(--quiet);
  }
  .icon:hover {
    color: var(--bad);
  }
  .check {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
</style>
