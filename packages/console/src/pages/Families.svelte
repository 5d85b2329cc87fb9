<script lang="ts">
  import FileUp from '@lucide/svelte/icons/file-up';
  import Empty from '../parts/Empty.svelte';
  import KindIcon from '../parts/KindIcon.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import { inAddress } from '../lib/address.js';
  import { when } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { saveAs } from '../lib/save.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';

  const families = new Loaded(() => client().families(), ['families', 'devices']);
  /** Which differences of settings come with which version, as persons have accepted them. */
  const expected = new Loaded(() => client().expected(), ['families']);
  const open = inAddress('family');
  const named = (component: string): string => (component === 'system' ? 'the system' : `a ${component.replaceAll('-', ' ')}`);

  let picker = $state<HTMLInputElement>();
  let refused = $state.raw<Failure | null>(null);
  let told = $state.raw<readonly string[]>([]);
  let removing = $state<string | null>(null);
  async function attempt(work: () => Promise<void>) {
    try {
      refused = null;
      await work();
    } catch (error) {
      refused = failureOf(error);
    }
  }
  /** A file that was added before is replaced: who gives it again means that. */
  const add = async (event: Event & { currentTarget: HTMLInputElement }) => {
    const input = event.currentTarget;
    const file = input.files?.[0];
    if (!file) return;
    told = [];
    await attempt(async () => {
      const made = /\.ya?ml$/.test(file.name)
        ? await client().addFamily(await file.text(), true)
        : await client().addFamilyArchive(inBase64(await file.arrayBuffer()), true);
      told = [
        `${made.title}: ${made.what}${made.conversations > 0 ? `, with ${made.conversations === 1 ? '1 conversation' : `${made.conversations} conversations`}` : ''}. Devices of it are recognised by the next discovery.`,
        ...made.remarks,
      ];
      open.value = made.family;
      await families.again();
    });
    input.value = '';
  };
  const inBase64 = (octets: ArrayBuffer): string =>
    btoa(Array.from(new Uint8Array(octets), (octet) => String.fromCharCode(octet)).join(''));
  const keepAll = (family: string) =>
    attempt(async () => saveAs(`${family}.tar`, new Blob([await client().familyArchive(family)], { type: 'application/x-tar' })));
  const keep = (family: string) =>
    attempt(async () => saveAs(`${family}.yaml`, new Blob([(await client().familyFile(family)).text], { type: 'application/yaml' })));
</script>

<div class="head">
  <h1>Families</h1>
  <span class="grow"></span>
  {#if may('admin')}
    <button class="btn preset-outlined-surface-300-700" onclick={() => picker?.click()}
      ><FileUp size={15} aria-hidden="true" />Add a family file</button
    >
    <input bind:this={picker} type="file" accept=".yaml,.yml,.tar" hidden aria-label="Family file" onchange={add} />
  {/if}
</div>
{#if refused}<Trouble failure={refused} />{/if}
{#each told as line, i (i)}<p class="told" class:quiet={i > 0} role="status">{line}</p>{/each}
{#if families.failure}<Trouble failure={families.failure} />{/if}
{#if families.value === null && !families.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if families.value}
  <p class="quiet told">
    A family file says how a kind of gear is recognised, read, and upgraded. {families.value.length} are known.
  </p>
  <div class="sheet">
    <table class="list">
      <thead><tr><th>Family</th><th>Kind</th><th>Models</th><th class="num">Devices</th><th>It is upgraded by</th></tr></thead>
      <tbody>
        {#each families.value as f (f.family)}
          <tr>
            <td
              ><button
                class="name"
                aria-expanded={open.value === f.family}
                onclick={() => (open.value = open.value === f.family ? '' : f.family)}>{f.title}</button
              ></td
            >
            <td><span class="kind"><KindIcon kind={f.kind} />{f.kind}</span></td>
            <td class="models"
              >{#each [...new Set(f.models.map((m) => m.model))] as model, i (model)}{i > 0 ? ', ' : ''}<span class="model">{model}</span
                >{/each}</td
            >
            <td class="num">{f.devices}</td>
            <td
              >{#if f.ways.length > 0}{[...new Set(f.ways.map((w) => w.name))].join('; ')}{:else}<span class="quiet">recorded only</span
                >{/if}</td
            >
          </tr>
          {#if open.value === f.family}
            <tr class="open">
              <td colspan="5">
                <dl>
                  <dt>Its name in commands</dt>
                  <dd class="mono">{f.family}</dd>
                  <dt>Its file</dt>
                  <dd>
                    {f.added ? 'added here' : 'came with Barrow'}
                    <button class="anchor" onclick={() => keep(f.family)}>Keep it</button>
                    {#if f.added}<button
                        class="anchor"
                        title="An archive with what was said while it was taught, to be added elsewhere"
                        onclick={() => keepAll(f.family)}>Keep it with its conversations</button
                      >{/if}
                    {#if f.added && may('admin')}<button class="anchor" onclick={() => (removing = f.family)}>Remove it</button>{/if}
                  </dd>
                  <dt>What works, and what is missing</dt>
                  <dd>
                    {#each f.works as line, nth (nth)}<div>{line}</div>{/each}
                  </dd>
                  {#if f.unproven.length > 0}<dt>Not yet proven here</dt>
                    <dd>{f.unproven.join(', ')}: the first goes alone; a person accepts it, and sees each line before it is sent</dd>{/if}
                  <dt>Recognised by</dt>
                  <dd>{f.recognisedBy.join(', ') || 'what its parent tells'}</dd>
                  {#each f.ways as way, nth (nth)}
                    <dt>{way.name}</dt>
                    <dd>
                      {named(way.component)}{way.from ? `, from ${way.from}` : ''}: {#each way.steps as step, i (i)}{i > 0
                          ? ' → '
                          : ''}<span class:point={step === way.pointOfNoReturn}>{step}</span>{/each}
                      <span class="quiet">(nothing interrupts it from {way.pointOfNoReturn} on)</span>
                    </dd>
                  {/each}
                  <dt>Procedures</dt>
                  <dd>{f.procedures.join(', ') || 'none'}</dd>
                  {#if f.storage}<dt>Storage</dt>
                    <dd>{f.storage}</dd>{/if}
                </dl>
              </td>
            </tr>
          {/if}
        {/each}
      </tbody>
    </table>
  </div>
{/if}

{#if expected.value && expected.value.length > 0}
  <section class="sheet expected" aria-label="What comes with a version">
    <h2>Settings and complaints that come with a version</h2>
    {#each expected.value as e (e.family + e.from + e.to)}
      <div class="step">
        <p>
          <b>{e.family}</b> from <span class="mono">{e.from}</span> to <span class="mono">{e.to}</span>
          <span class="quiet">accepted by {e.by}, {when(e.at)}</span>
          {#if may('operator')}<button
              class="anchor"
              title="They are told again"
              onclick={() =>
                attempt(async () => expected.show(await client().forgetExpected({ family: e.family, from: e.from, to: e.to })))}
              >Forget</button
            >{/if}
        </p>
        <pre>{e.lines.join('\n')}</pre>
      </div>
    {/each}
  </section>
{/if}

{#if removing}
  <FormDialog
    title="Remove {removing}?"
    about="Barrow knows this gear no more. It is refused while devices, images or targets of it are here."
    word="Remove it"
    onclose={() => (removing = null)}
    send={async () => {
      await client().removeFamily(removing!);
      await families.again();
    }}
  />
{/if}

<style>
  .expected {
    margin-top: 1rem;
    padding: 0.8rem 1rem;
  }
  .expected h2 {
    font-size: 1rem;
    font-weight: 600;
  }
  .step {
    margin-top: 0.5rem;
  }
  .step pre {
    max-height: 12rem;
    overflow: auto;
    margin-top: 0.2rem;
    font-size: 0.85rem;
  }
  .model {
    white-space: nowrap;
  }
  .models {
    min-width: 8.5rem;
  }
  .told {
    margin-bottom: 0.6rem;
  }
  .kind {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    white-space: nowrap;
  }
  .open td {
    background: color-mix(in oklab, var(--now) 4%, transparent);
    padding-block: 0.6rem;
  }
  dl {
    display: grid;
    grid-template-columns: 12rem minmax(0, 1fr);
    gap: 0.3rem 0.75rem;
  }
  dt {
    color: var(--quiet);
  }
  .point {
    color: var(--care);
    font-weight: 600;
  }
</style>
