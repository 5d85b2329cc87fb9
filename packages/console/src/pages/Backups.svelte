<script lang="ts">
  import type { Backup, RestoredView } from '@barrow/core';
  import { octets } from '@barrow/client';
  import Difference from '../parts/Difference.svelte';
  import Choose from '../parts/Choose.svelte';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import SearchBox from '../parts/SearchBox.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import { inAddress } from '../lib/address.js';
  import { count, when } from '../lib/format.js';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { Selection } from '../lib/selection.svelte.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';

  const backups = new Loaded(() => client().backups(), ['backups']);
  const retention = new Loaded(() => client().backupRetention(), ['backups']);
  let keeping = $state<{ days: number; least: number } | null>(null);
  const text = inAddress('text');
  const chosen = new Selection<Backup>();
  let refused = $state.raw<Failure | null>(null);
  let restoring = $state.raw<{ backup: Backup; look: RestoredView } | null>(null);
  let shown = $state.raw<{ title: string; lines: readonly string[] } | null>(null);

  const rows = $derived.by(() => {
    const words = text.value.toLowerCase().split(/\s+/).filter(Boolean);
    return (backups.value ?? []).filter((b) =>
      words.every((w) => `${b.deviceName}\n${b.firmware ?? ''}\n${b.sha256}`.toLowerCase().includes(w)),
    );
  });
  const two = $derived(chosen.all);
  const why = $derived(
    two.length !== 2 ? 'Choose two backups of one device.' : two[0]!.device !== two[1]!.device ? 'These are of two devices.' : '',
  );
  const toggle = (b: Backup, toHere: boolean, index: number) =>
    void chosen.toggle(b, index, toHere, (from, many) => rows.slice(from, from + many));

  async function attempt(work: () => Promise<void>) {
    try {
      await work();
      refused = null;
    } catch (error) {
      refused = failureOf(error);
    }
  }
  const show = (b: Backup) =>
    attempt(async () => {
      const { text: all } = await client().backup(b.id);
      shown = { title: `${b.deviceName}, ${when(b.takenAt)}, with its secrets`, lines: all.split('\n') };
    });
  const titleOf = (b: Backup): string => `${b.deviceName}, ${when(b.takenAt)}`;
  const linesOf = ({ lines, cut }: { lines: readonly string[]; cut: number }): string[] => [
    ...lines,
    ...(cut > 0 ? [`… and ${cut} lines more`] : []),
  ];
  const look = (b: Backup) =>
    attempt(async () => {
      const found = await client().restoreBackup(b.id, { look: true });
      if (found.same) shown = { title: `${titleOf(b)}: the device has these settings already`, lines: [] };
      else restoring = { backup: b, look: found };
    });
  async function restore({ backup }: { backup: Backup }) {
    const { same, refused: not, ...left } = await client().restoreBackup(backup.id, { look: false });
    shown = same
      ? { title: `${backup.deviceName} has its settings from ${when(backup.takenAt)} again`, lines: [] }
      : {
          title: `${backup.deviceName} did not take all of it`,
          lines: [...not.map((line) => `it refused: ${line}`), ...linesOf(left)],
        };
  }
  const compare = () =>
    attempt(async () => {
      const [older, newer] = [...two].sort((a, b) => a.takenAt.localeCompare(b.takenAt));
      const { same, lines, cut } = await client().compareBackups(older!.id, newer!.id);
      const title = `${older!.deviceName}, ${when(older!.takenAt)} and ${when(newer!.takenAt)}`;
      shown = {
        title: same ? `${title}: no difference` : title,
        lines: linesOf({ lines, cut }),
      };
    });
</script>

<div class="head">
  <h1>Backups</h1>
  <SearchBox bind:text={text.value} label="Find backups" placeholder="Device, firmware, digest…" />
  <span class="grow"></span>
  {#if two.length > 0 && why !== ''}<span class="quiet" id="why-not">{why}</span>{/if}
  {#if may('admin')}
    <button class="btn preset-outlined-surface-300-700" onclick={() => (keeping = { ...(retention.value ?? { days: 365, least: 5 }) })}
      >{retention.value ? `Kept ${count(retention.value.days, 'day')}` : 'Kept for ever'}</button
    >
    <button class="btn preset-outlined-surface-300-700" disabled={why !== ''} aria-describedby="why-not" onclick={compare}
      >Compare two</button
    >
  {/if}
</div>
{#if refused ?? backups.failure}<Trouble failure={(refused ?? backups.failure)!} />{/if}

{#if shown}
  <section class="sheet shown" aria-label="Content">
    <h2>{shown.title} <button class="anchor" onclick={() => (shown = null)}>Close</button></h2>
    {#if shown.lines.length > 0}<pre class="mono">{#each shown.lines as line, i (i)}<span
            data-sign={line[0] === '+' || line[0] === '-' ? line[0] : undefined}
            >{line}
</span>{/each}</pre>{/if}
  </section>
{/if}

{#if restoring}
  <FormDialog
    title="Put settings back"
    about="{restoring.backup.deviceName} gets the settings of {when(restoring.backup.takenAt)}: {restoring.look
      .removed} lines go, {restoring.look.added} come. What it has now is kept as a backup first."
    word="Put them back"
    onclose={() => (restoring = null)}
    send={() => restore(restoring!)}
  >
    <Difference lines={restoring.look.lines} cut={restoring.look.cut} />
  </FormDialog>
{/if}

{#if backups.value === null && !backups.failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{:else if backups.value && backups.value.length === 0}
  <div class="sheet">
    <Empty title="No backups yet"
      >A rollout saves the settings of each device before it changes it. To save some now, <a class="anchor" href="/">choose devices</a> and press
      Back up.</Empty
    >
  </div>
{:else if backups.value}
  <VirtualTable {rows} label="Backups" columns={6} maxHeight="calc(100vh - 9.5rem)" ontoggle={toggle} isChosen={(b) => chosen.has(b.id)}>
    {#snippet head()}
      <tr
        ><th></th><th>Device</th><th>Saved</th><th>It ran</th><th class="num">Size</th><th>Digest</th><th>Before</th><th
          ><span class="unseen">Content</span></th
        ></tr
      >
    {/snippet}
    {#snippet row(b, index)}
      <td class="choose"
        ><Choose
          label="Choose the backup of {b.deviceName}, {when(b.takenAt)}"
          checked={chosen.has(b.id)}
          ontoggle={(toHere) => toggle(b, toHere, index)}
        /></td
      >
      <td><a class="name" tabindex="-1" href="/devices/{b.device}">{b.deviceName}</a></td>
      <td>{when(b.takenAt)}</td>
      <td class="mono">{b.firmware ?? '–'}</td>
      <td class="num">{octets(b.bytes)}</td>
      <td class="mono quiet">{b.sha256.slice(0, 12)}</td>
      <td
        >{#if b.rollout}<a class="anchor" tabindex="-1" href="/rollouts/{b.rollout}">a rollout</a>{:else}<span class="quiet">by hand</span
          >{/if}</td
      >
      <td class="num"
        >{#if may('admin')}<button class="anchor" tabindex="-1" onclick={() => show(b)}>Show</button>
          <button class="anchor more" tabindex="-1" onclick={() => look(b)}>Restore…</button>{/if}</td
      >
    {/snippet}
  </VirtualTable>
  <p class="quiet foot" role="status">{count(rows.length, 'backup')}</p>
{/if}

{#if keeping}
  <FormDialog
    title="How long backups are kept"
    about="Those that are older are dropped at once, and every hour. Of each device the newest of each version that it ran always stays."
    word="Keep them so long"
    onclose={() => (keeping = null)}
    send={async () => {
      await client().setBackupRetention(keeping);
      await retention.again();
    }}
  >
    <div class="pair">
      <label class="label"
        ><span class="label-text">Days</span><input
          class="input"
          type="number"
          min="1"
          max="36500"
          required
          bind:value={keeping.days}
        /></label
      >
      <label class="label"
        ><span class="label-text">And the newest of each device</span><input
          class="input"
          type="number"
          min="1"
          max="1000"
          required
          bind:value={keeping.least}
        /></label
      >
    </div>
    {#if retention.value}<button
        type="button"
        class="anchor"
        onclick={async () => {
          await client().setBackupRetention(null);
          keeping = null;
          await retention.again();
        }}>Keep them for ever</button
      >{/if}
  </FormDialog>
{/if}

<style>
  .shown {
    margin-bottom: 0.75rem;
    padding: 0.7rem 1rem;
    max-height: 50vh;
    overflow: auto;
  }
  h2 {
    display: flex;
    gap: 1rem;
    align-items: baseline;
  }
  pre {
    margin-top: 0.4rem;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .more {
    margin-left: 0.8rem;
  }
  [data-sign='+'] {
    color: var(--good);
  }
  [data-sign='-'] {
    color: var(--bad);
  }
  .choose {
    width: 1.6rem;
    padding-right: 0;
  }
  .foot {
    margin-top: 0.5rem;
  }
  .unseen {
    position: absolute;
    clip-path: inset(50%);
  }
</style>
