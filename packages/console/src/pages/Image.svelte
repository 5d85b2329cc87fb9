<script lang="ts">
  import { octets } from '@barrow/client';
  import { describeFrom, NoteUnreadable, readNote } from '@barrow/core';
  import Channel from '../parts/Channel.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import State from '../parts/State.svelte';
  import TargetThis from '../parts/TargetThis.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { asHtml } from '../lib/markdown.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { client, may, Slip } from '../lib/session.svelte.js';
  import { when } from '../lib/format.js';
  import { goTo, place } from '../lib/place.js';

  let withdrawing = $state(false);
  let why = $state('');
  const id = $derived(place.params['id'] ?? '');
  const mostDevices = 200;

  const loaded = new Loaded(async () => {
    const image = await client().image(id);
    return { image, page: await client().devicePage({ mayRun: image.sha256, limit: mostDevices }) };
  }, ['images', 'devices', 'targets', 'advisories']);
  const image = $derived(loaded.value?.image ?? null);
  const page = $derived(loaded.value?.page ?? null);

  const comparedWords = {
    strong: 'with a digest that its source published',
    weak: 'with a checksum that shows damage and no forgery',
    not: 'with nothing that its source published: add it once more with its digest',
  } as const;

  const facts = $derived.by((): [string, string][] => {
    if (!image) return [];
    const { note } = image;
    const needs = [
      note.needs.bootLoader ? `boot loader ${note.needs.bootLoader} or newer` : null,
      ...note.needs.partners.map(
        (p) =>
          `${p.family} ${p.atLeast} or newer${p.upTo ? `, ${p.upTo} or older` : ''}${p.whenAlone === 'allowed' ? ', where there is one' : ''}`,
      ),
      ...note.needs.programs.map((p) => `${p.name} ${p.atLeast} or newer`),
      note.needs.licence ? `of a licence: ${note.needs.licence}` : null,
    ].filter((n) => n !== null);
    return [
      ['Family', image.family],
      ['Models', `${image.models.join(', ')}${image.variant ? `, ${image.variant}` : ''}`],
      ['Hardware', image.hardwareRevisions.join(', ')],
      ['Starts from', describeFrom(note.from)],
      ['Needs', needs.join('; ') || 'nothing before it'],
      ...(note.bringsBootLoader ? [['Brings', `boot loader ${note.bringsBootLoader}`] as [string, string]] : []),
      ['Going down to it', note.goingDown],
      ['Restarts', String(note.reboots)],
      ['Room', note.spaceBytes === null ? 'its size' : octets(note.spaceBytes)],
      ['Size', `${octets(image.bytes)} (${image.bytes} octets)`],
      ['SHA-256', image.sha256],
      ['Added', `${when(image.addedAt)} by ${image.addedBy}`],
      ['Compared', comparedWords[image.compared ?? 'not']],
    ];
  });
  const withdraw = () => client().setNote(image!.sha256, { ...image!.note, withdrawn: image!.withdrawn ? null : { why: why.trim() } });
  /** The note as it is being changed; null while it is not. */
  let note = $state<string | null>(null);
  const setNote = async () => {
    try {
      await client().setNote(image!.sha256, readNote(note!));
    } catch (error) {
      if (!(error instanceof NoteUnreadable)) throw error;
      throw new Slip('The note was not taken', error.message, 'Mend it and send it again.');
    }
  };
  let removing = $state(false);
  async function remove() {
    await client().removeImage(image!.sha256);
    goTo('/images');
  }
</script>

<p class="crumb"><a class="anchor" href="/images">Images</a></p>
{#if loaded.failure}<Trouble failure={loaded.failure} />{/if}
{#if image}
  <div class="head">
    <h1 class="mono">{image.file}</h1>
    <span class="version">{image.version}{image.component === 'boot-loader' ? ' boot loader' : ''}</span>
    <Channel {image} />
    <span class="grow"></span>
    {#if may('operator')}
      <button class="btn preset-outlined-surface-300-700" onclick={() => (note = JSON.stringify(image!.note, null, 2))}
        >Change its note</button
      >
      <button class="btn preset-outlined-surface-300-700" onclick={() => (withdrawing = true)}
        >{image.withdrawn ? 'Use it again' : 'Withdraw'}</button
      >
      <button class="btn preset-outlined-surface-300-700" onclick={() => (removing = true)}>Remove</button>
    {/if}
  </div>
  {#if may('operator') && image.component === 'system' && !image.withdrawn}
    <div class="target"><TargetThis family={image.family} version={image.version} /></div>
  {/if}
  {#if image.withdrawn}
    <div class="sheet flag">
      <b>Withdrawn{image.withdrawn.since ? ` on ${image.withdrawn.since}` : ''}:</b>
      {image.withdrawn.why}. It is never staged and no step of a path.
    </div>
  {/if}
  <div class="columns">
    <div>
      <section class="sheet" aria-label="What it is">
        <h2>What it is</h2>
        <dl>
          {#each facts as [key, value] (key)}<dt>{key}</dt>
            <dd class:mono={key === 'SHA-256'}>{value}</dd>{/each}
        </dl>
      </section>
      {#if image.files.length > 1}
        <section class="sheet" aria-label="Files">
          <h2>Its files, in the order in which a device takes them</h2>
          <table class="list">
            <tbody>
              {#each image.files as f, i (i)}<tr
                  ><td class="quiet">{i + 1}</td><td class="mono">{f.file}</td><td class="num">{octets(f.bytes)}</td><td class="mono quiet"
                    >{f.sha256.slice(0, 16)}…</td
                  ></tr
                >{/each}
            </tbody>
          </table>
        </section>
      {/if}
    </div>
    <div>
      <section class="sheet" aria-label="What it mends and breaks">
        <h2>What it mends and breaks</h2>
        {#if image.fixes.length + image.breaks.length === 0}<p class="none quiet">Nothing is told.</p>{/if}
        <ul class="effects">
          {#each image.fixes as f, nth (nth)}
            <li>
              <span class="good">mends</span>
              <span
                >{#if f.advisory}<a class="anchor" href="/advisories/{encodeURIComponent(f.advisory)}">{f.text}</a>
                  <span class="quiet">({f.exposed} of the devices that it fits {f.exposed === 1 ? 'is' : 'are'} exposed)</span
                  >{:else}{f.text}{/if}</span
              >
            </li>
          {/each}
          {#each image.breaks as b, nth (nth)}
            <li>
              <span class="bad">breaks</span>
              <span
                >{b.text}: {#if b.devices === 0}<span class="quiet">no device here</span>{:else}{b.devices === 1
                    ? '1 device'
                    : `${b.devices} devices`}
                  <span class="quiet">({b.names.join(', ')}{b.devices > b.names.length ? ', …' : ''})</span>{/if}</span
              >
            </li>
          {/each}
        </ul>
      </section>
      {#if image.note.notes}
        <section class="sheet" aria-label="Release notes">
          <h2>
            Release notes <span class="quiet"
              >{image.read.length === 0 ? 'nobody has read them' : `read by ${image.read.map((r) => r.by).join(', ')}`}</span
            >
          </h2>
          <!-- eslint-disable-next-line svelte/no-at-html-tags -- rendered with HTML left as text -->
          <div class="notes">{@html asHtml(image.note.notes)}</div>
          {#if may('operator') && image.read.length === 0}
            <p class="none">
              <button class="btn btn-sm preset-outlined-surface-300-700" onclick={() => void client().readNotes(image!.sha256)}
                >I have read them</button
              >
            </p>
          {/if}
        </section>
      {/if}
      <section class="sheet" aria-label="Who may run it">
        <h2>Who may run it <span class="quiet">{image.fits} fit, {image.runs} run it, {image.onPaths} would take it</span></h2>
        {#if page && page.items.length === 0}<p class="none quiet">No known device.</p>
        {:else if page}
          <div class="scroll">
            <table class="list">
              <thead><tr><th>Device</th><th>Site</th><th>Runs</th><th>Target</th><th>Standing</th><th></th></tr></thead>
              <tbody>
                {#each page.items as d (d.id)}
                  <tr>
                    <td><a class="name" href="/devices/{d.id}">{d.name}</a></td>
                    <td>{d.site}</td>
                    <td class="mono">{d.firmware ?? 'unknown'}</td>
                    <td class="mono">{d.target ?? '–'}</td>
                    <td><State word={d.standing} /></td>
                    <td class="quiet"
                      >{d.path.some((p) => p.sha256 === image?.sha256) ? 'takes it' : d.firmware === image?.version ? 'runs it' : ''}</td
                    >
                  </tr>
                {/each}
              </tbody>
            </table>
          </div>
          {#if page.total > page.items.length}<p class="none quiet">and {page.total - page.items.length} more</p>{/if}
        {/if}
      </section>
    </div>
  </div>
{:else if !loaded.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

{#if withdrawing && image}
  <FormDialog
    title={image.withdrawn ? `Use ${image.file} again` : `Withdraw ${image.file}`}
    about={image.withdrawn
      ? 'It may be staged and be a step of paths again.'
      : 'It is never staged and never a step of a path from then on.'}
    word={image.withdrawn ? 'Use it again' : 'Withdraw it'}
    onclose={() => (withdrawing = false)}
    send={withdraw}
  >
    {#if !image.withdrawn}<label class="label"><span class="label-text">Why</span><input class="input" required bind:value={why} /></label
      >{/if}
  </FormDialog>
{/if}

{#if note !== null}
  <FormDialog
    title="The note of {image?.file}"
    about="What must be known of the image beside its content: from where it starts, what it needs, resets, mends and breaks. It is JSON, as `barrow image note` prints it."
    word="Put this in its place"
    onclose={() => (note = null)}
    send={setNote}
  >
    <label class="label"
      ><span class="label-text">Note</span><textarea class="textarea mono note" rows="18" spellcheck="false" bind:value={note} required
      ></textarea></label
    >
  </FormDialog>
{/if}
{#if removing && image}
  <FormDialog
    title="Remove {image.file}?"
    about="The file goes from the store, with its note. What needs it, a rollout under way or an offer, keeps it from going. It can be added again from where it came."
    word="Remove it"
    onclose={() => (removing = false)}
    send={remove}
  />
{/if}

<style>
  .target {
    margin-bottom: 0.75rem;
  }
  .crumb {
    margin-bottom: 0.25rem;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.9rem;
    margin-bottom: 0.9rem;
    flex-wrap: wrap;
  }
  h1 {
    font-size: 1.2rem;
    font-weight: 600;
  }
  .version {
    font-weight: 650;
    font-size: 1.05rem;
  }
  h2 {
    font-weight: 650;
    padding: 0.55rem 0.9rem;
    border-bottom: 1px solid var(--line);
  }
  h2 .quiet {
    font-weight: 400;
    margin-left: 0.5rem;
  }
  .columns {
    display: grid;
    grid-template-columns: minmax(22rem, 5fr) minmax(0, 7fr);
    gap: 1rem;
    align-items: start;
  }
  section {
    margin-bottom: 1rem;
    overflow: hidden;
  }
  dl {
    display: grid;
    grid-template-columns: 8rem 1fr;
    gap: 0.3rem 0.75rem;
    padding: 0.65rem 0.9rem;
  }
  dt {
    color: var(--quiet);
  }
  dd {
    overflow-wrap: anywhere;
  }
  .flag {
    padding: 0.6rem 0.9rem;
    margin-bottom: 0.9rem;
    border-left: 4px solid var(--bad);
  }
  .none {
    padding: 0.5rem 0.9rem;
  }
  .effects {
    padding: 0.4rem 0.9rem;
    display: grid;
    gap: 0.3rem;
  }
  .effects:empty {
    display: none;
  }
  .effects li {
    display: grid;
    grid-template-columns: 4rem 1fr;
    gap: 0.5rem;
  }
  .good {
    color: var(--good);
    font-weight: 550;
  }
  .bad {
    color: var(--bad);
    font-weight: 550;
  }
  .notes {
    padding: 0.6rem 0.9rem;
    overflow: auto;
    max-height: 22rem;
  }
  .notes :global(h1),
  .notes :global(h2),
  .notes :global(h3) {
    font-weight: 650;
    font-size: 1rem;
    margin: 0.4rem 0 0.2rem;
  }
  .notes :global(ul) {
    list-style: disc;
    padding-left: 1.3rem;
  }
  .notes :global(p) {
    margin-bottom: 0.4rem;
  }
  .notes :global(th),
  .notes :global(td) {
    text-align: left;
    padding: 0.2rem 0.8rem 0.2rem 0;
  }
  .scroll {
    max-height: 26rem;
    overflow: auto;
  }
  .note {
    font-size: 0.8125rem;
    white-space: pre;
  }
</style>
