<script lang="ts">
  import { undo } from '../lib/undo.svelte.js';
  import {
    rungMeans,
    stepText,
    waysIn,
    type ForetoldView,
    type RehearsalView,
    type TimelineView,
    type WayBackAhead,
    type Rollout,
    type RunView,
    type ExpectedSeen,
  } from '@barrow/core';
  import Empty from '../parts/Empty.svelte';
  import FormDialog from '../parts/FormDialog.svelte';
  import PlanDialog from '../parts/PlanDialog.svelte';
  import RunDetail from '../parts/RunDetail.svelte';
  import Share from '../parts/Share.svelte';
  import State from '../parts/State.svelte';
  import StepTrack from '../parts/StepTrack.svelte';
  import Trouble from '../parts/Trouble.svelte';
  import VirtualTable from '../parts/VirtualTable.svelte';
  import Soak from '../parts/Soak.svelte';
  import Timeline from '../parts/Timeline.svelte';
  import WhatIf from '../parts/WhatIf.svelte';
  import Words from '../parts/Words.svelte';
  import { Loaded } from '../lib/loaded.svelte.js';
  import { untrack } from 'svelte';
  import { saveAs } from '../lib/save.js';
  import { client, failureOf, may, type Failure } from '../lib/session.svelte.js';
  import {
    groupBy,
    noticesBeside,
    restOf,
    someOf,
    waveText,
    withChanges,
    beginsText,
    boundText,
    foretoldText,
    learnedText,
    paceOf,
    takenBackText,
    approvalDoes,
    wouldDo,
  } from '@barrow/client';
  import { count, duration, since, totalsOf, when } from '../lib/format.js';
  import { goTo, place } from '../lib/place.js';

  const id = $derived(place.params['id'] ?? '');
  let refused = $state<Failure | null>(null);
  /** A wave of more than these shows only those in view, and what is opened beneath them. */
  const mostRows = 120;
  let open = $state<string | null>(null);
  let busy = $state(false);
  let now = $state(Date.now());
  let percents = $state<Record<string, number>>({});

  /** What is planned anew out of this one: what is left of it, or the way back of what it brought. */
  let planning = $state<'rest' | 'back' | null>(null);

  let foretold = $state.raw<ForetoldView | null>(null);
  /** It is asked for at most so often, in milliseconds: to play a large rollout to its end takes the service seconds. */
  const foretellEvery = 5000;
  let foretoldAt = 0;
  const isUnderWay = ({ phase }: Rollout): boolean => phase === 'running' || phase === 'held' || phase === 'stopping';
  async function foretell(asked: string) {
    foretoldAt = Date.now();
    // It may have ended meanwhile; what is shown of it tells that.
    const told = await client()
      .foretold(asked)
      .catch(() => null);
    if (asked === id) foretold = told;
    if (isBeside) void besides(asked);
  }

  /** What happened beside what was rehearsed; of more devices it is left to the command line. */
  const mostBeside = 500;
  let isBeside = $state(false);
  let beside = $state.raw<TimelineView | null>(null);
  let besideFailed = $state.raw<Failure | null>(null);
  async function besides(asked: string) {
    try {
      const told = await client().timeline(asked);
      if (asked === id) [beside, besideFailed] = [told, null];
    } catch (error) {
      if (asked === id) besideFailed = failureOf(error);
    }
  }
  $effect(() => {
    if (isBeside) void besides(id);
  });

  /** How the whole of a plan could be taken back again; of a large one that is planned only when it is wanted. */
  const mostAhead = 500;
  let ahead = $state.raw<WayBackAhead | null>(null);
  $effect(() => {
    const asked = id;
    ahead = null;
    if (rehearsal === null || rehearsal.devices > mostAhead) return;
    void client()
      .wayBackAhead(asked)
      .then((told) => {
        if (asked === id) ahead = told;
      })
      .catch(() => undefined);
  });

  interface Shown {
    readonly rollout: Rollout;
    /** Of a plan that was not started. */
    readonly rehearsal: RehearsalView | null;
  }
  const loaded: Loaded<Shown> = new Loaded<Shown>(
    async () => {
      const asked = id;
      const before = untrack(() => shown);
      const found = before
        ? withChanges(before.rollout, await client().rolloutChanges(asked, before.rollout.stand))
        : await client().rollout(asked);
      if (!isUnderWay(found)) {
        foretold = null;
        // As it ended.
        if (found.phase === 'ended' && untrack(() => isBeside)) void besides(asked);
      } else if (Date.now() - foretoldAt > foretellEvery) void foretell(asked);
      const rehearsal = found.phase === 'planned' ? (before?.rehearsal ?? (await client().rehearsal(asked))) : null;
      return { rollout: found, rehearsal };
    },
    ['rollouts'],
    (event) => {
      if (event.kind === 'progress' && event.rollout === id) percents[event.run] = event.percent;
      if (event.kind !== 'journal' || event.entry.rollout !== id) return false;
      if ('run' in event.entry.event && event.entry.event.run) delete percents[event.entry.event.run];
      return true;
    },
  );
  /** What is here of the one that the address names. */
  const shown = $derived(loaded.value?.rollout.id === id ? loaded.value : null);
  const rollout = $derived(shown?.rollout ?? null);
  const rehearsal = $derived(shown?.rehearsal ?? null);
  const rest = $derived(rollout ? restOf(rollout) : []);
  const ways = $derived(rollout ? waysIn(rollout) : []);
  const failure = $derived(loaded.failure);
  const begins = $derived(rollout ? beginsText(rollout, new Date(now)) : null);
  const show = (now: Rollout): void => loaded.show({ rollout: now, rehearsal: now.phase === 'planned' ? rehearsal : null });

  $effect(() => {
    void id;
    foretold = null;
    beside = null;
    foretoldAt = 0;
    open = null;
    percents = {};
  });
  $effect(() => {
    const clock = setInterval(() => (now = Date.now()), 1000);
    return () => clearInterval(clock);
  });

  const runs = $derived(
    (rollout?.runs ?? []).map((r): RunView =>
      r.phase === 'busy' && percents[r.id] !== undefined ? { ...r, percent: percents[r.id]! } : r,
    ),
  );
  const notices = $derived(groupBy(rollout?.runs ?? [], noticesBeside(rollout ?? { hazards: [] }), (r) => r.name));
  const leftOut = $derived(
    groupBy(
      rollout?.leftOut ?? [],
      (l) => [l.reason],
      (l) => l.name,
    ),
  );
  const backTexts = $derived.by(() => {
    const rungs = rollout?.passages.flatMap((p) => p.rungs) ?? [];
    return rungMeans.flatMap((m) => [...new Set(rungs.flatMap((g) => (g.means === m ? [g.text] : [])))]);
  });
  const trouble = $derived(runs.filter((r) => r.cause !== null));
  const waitsForWord = $derived.by(() => {
    const wave = rollout?.waves[rollout.currentWave];
    return wave && wave.gate.approval && wave.approvedBy === null && rollout?.phase === 'running' ? wave : null;
  });

  async function say(word: 'start' | 'start-not' | 'hold' | 'continue' | 'stop' | 'approve', body: object = {}) {
    busy = true;
    refused = null;
    try {
      show(await client().say(id, word, body));
      // The rollout uses the target now: the offer to undo it ends.
      if (word === 'start') undo.aside();
    } catch (error) {
      const done = {
        start: 'started',
        'start-not': 'kept from beginning',
        hold: 'held',
        continue: 'continued',
        stop: 'stopped',
        approve: 'approved',
      };
      refused = failureOf(error, done[word]);
    } finally {
      busy = false;
    }
  }
  /** What has to be accepted before the start, each by a mark of its own. */
  const toAccept = $derived(rollout?.hazards.filter((h) => h.accept) ?? []);
  /** So many of a kind are told again where they are accepted. */
  const mostGroups = 4;
  let accepting = $state(false);
  let accepted = $state<Record<string, boolean>>({});
  let acceptedWhy = $state('');
  /** Whether it is to begin at a moment, and which; as a field for dates and times writes it, in the zone of this machine. */
  let later = $state(false);
  let times = $state({ at: '', latest: '', doneBy: '' });
  const askFor = (atMoment: boolean) => (
    (accepted = {}),
    (acceptedWhy = ''),
    (later = atMoment),
    (times = { at: '', latest: '', doneBy: '' }),
    (accepting = true)
  );
  const start = () => (toAccept.length > 0 ? askFor(false) : say('start'));
  const momentIn = (field: string): string | null => (field === '' ? null : new Date(field).toISOString());
  const startAccepted = async () => {
    undo.aside();
    show(
      await client().say(id, 'start', {
        accept: toAccept.map((h) => h.code).filter((code) => accepted[code]),
        reason: acceptedWhy.trim() === '' ? null : acceptedWhy.trim(),
        ...(later ? { at: momentIn(times.at), latest: momentIn(times.latest), doneBy: momentIn(times.doneBy) } : {}),
      }),
    );
  };
  async function sayDone(run: string) {
    refused = null;
    try {
      show(await client().sayRun(id, run, 'done'));
    } catch (error) {
      refused = failureOf(error, 'kept as done');
    }
  }
  /** What a person is asked for before it is said. */
  let asking = $state.raw<
    | { what: 'hold' | 'stop' | 'discard' | 'note' | 'continue' }
    | { what: 'approve'; wave: number }
    | { what: 'skip' | 'take-over' | 'answer' | 'expect' | 'cut-off' | 'retry' | 'take-back' | 'release'; run: RunView }
    | null
  >(null);
  /** What the upgrade changed in the settings of the one that is asked about. */
  let differing = $state.raw<ExpectedSeen | null>(null);
  const askExpected = (run: RunView) =>
    attempt(async () => {
      differing = await client().expect(id, run.id, { accept: false });
      asking = { what: 'expect', run };
    });
  let words = $state('');
  const asks = {
    hold: { title: 'Pause this rollout?', about: '', word: 'Pause' },
    stop: {
      title: 'Stop this rollout?',
      about: '',
      word: 'Stop it',
    },
    discard: {
      title: 'Discard this plan?',
      about: 'Nothing of it was begun. It is forgotten; the devices can be planned again.',
      word: 'Discard it',
    },
    note: { title: 'Write a note', about: 'It stands in the journal and in the report, with your name and the time.', word: 'Write it' },
    skip: {
      title: 'Leave a device out?',
      about: 'It is left as it is, as soon as the step in hand may be left. It can be retried later.',
      word: 'Leave it out',
    },
    'take-over': { title: 'Do this one by hand?', about: '', word: 'It is mine' },
    answer: { title: 'Answer', about: '', word: 'Answer' },
    expect: {
      title: 'Does that come with the version?',
      about:
        'Accepted, these lines are expected of every device of the family that takes this version step; only others are told from then on. Retry this one then.',
      word: 'Accept them',
    },
    'cut-off': { title: 'Cut power that others share?', about: '', word: 'Cut it' },
    continue: { title: 'Go on with this rollout?', about: '', word: 'Go on' },
    approve: { title: 'Give the word for the next wave?', about: '', word: 'Approve' },
    retry: { title: 'Begin it anew?', about: '', word: 'Begin anew' },
    'take-back': { title: 'Take it back?', about: '', word: 'Take it back' },
    release: { title: 'Let go what guards it?', about: '', word: 'Let go' },
  } as const;
  /** What is told before it is said: what it will do, and to whom. */
  function aboutOf(asked: NonNullable<typeof asking>): string {
    const now = rollout!;
    switch (asked.what) {
      case 'answer':
        return asked.run.asks ?? 'It is asked no more.';
      case 'approve':
        return approvalDoes(now, asked.wave).join(' ');
      case 'hold':
      case 'stop':
      case 'continue':
        return wouldDo(asked.what, now).join(' ');
      case 'take-over':
      case 'retry':
      case 'take-back':
      case 'release':
        return wouldDo(asked.what, now, asked.run).join(' ');
      case 'cut-off':
        return wouldDo('take-back', now, asked.run).join(' ');
      default:
        return asks[asked.what].about;
    }
  }
  async function ask() {
    if (asking?.what === 'discard') {
      await client().discardRollout(id);
      goTo('/rollouts');
    } else if (asking?.what === 'skip') show(await client().sayRun(id, asking.run.id, 'skip', { reason: words.trim() }));
    else if (asking?.what === 'take-over') show(await client().sayRun(id, asking.run.id, 'take-over', { reason: words.trim() }));
    else if (asking?.what === 'answer') show(await client().sayRun(id, asking.run.id, 'answer', { answer: words.trim() }));
    else if (asking?.what === 'cut-off') show(await client().sayRun(id, asking.run.id, 'take-back', { accept: ['cut-off'] }));
    else if (asking?.what === 'retry' || asking?.what === 'take-back') show(await client().sayRun(id, asking.run.id, asking.what));
    else if (asking?.what === 'release') show(await client().sayRun(id, asking.run.id, 'release', { reason: 'looked at by a person' }));
    else if (asking?.what === 'approve') show(await client().say(id, 'approve', { wave: asking.wave }));
    else if (asking?.what === 'expect') await client().expect(id, asking.run.id, { accept: true });
    else if (asking?.what === 'hold') show(await client().say(id, 'hold', words.trim() === '' ? {} : { reason: words.trim() }));
    else if (asking) show(await client().say(id, asking.what, asking.what === 'note' ? { text: words.trim() } : {}));
    words = '';
  }
  async function attempt(work: () => Promise<void>) {
    try {
      await work();
      refused = null;
    } catch (error) {
      refused = failureOf(error);
    }
  }
  async function table() {
    saveAs(`${id}.csv`, new Blob([await client().reportAs(id, 'csv')], { type: 'text/csv' }));
  }
  async function planAsFile() {
    const file = await client().planFile(id);
    saveAs(`${id}.plan.json`, new Blob([JSON.stringify(file, null, 2)], { type: 'application/json' }));
  }
  async function sheet() {
    const page = await client().sheet(id);
    window.open(URL.createObjectURL(new Blob([page], { type: 'text/html' })), '_blank');
  }
  async function atSite(run: RunView) {
    const page = await client().atSite(id, run.id);
    window.open(URL.createObjectURL(new Blob([page], { type: 'text/html' })), '_blank');
  }
  async function report() {
    const page = await client().reportAs(id, 'html');
    window.open(URL.createObjectURL(new Blob([page], { type: 'text/html' })), '_blank');
  }

  function gateText(wave: Rollout['waves'][number], last: boolean): string {
    const { failureLimit, failureShare, absentLimit } = wave.gate;
    const parts = [`holds at ${failureLimit} failed${failureShare === undefined ? '' : ` or ${failureShare} %`}`];
    if (absentLimit !== undefined) parts.push(`at most ${absentLimit} absent`);
    if (wave.gate.soakMs > 0) parts.unshift(`soak ${duration(wave.gate.soakMs)}`);
    if (!last && wave.gate.approval) parts.push(wave.approvedBy ? `approved by ${wave.approvedBy}` : "waits for a person's word");
    return parts.join(' · ');
  }
  const away = (run: RunView): 'absent' | 'not ready' => (run.cause?.code === 'unreachable' ? 'absent' : 'not ready');
  function waitWord({ waits }: RunView): string {
    return waits ? `${waits.text}${waits.until ? `, until ${when(waits.until)}` : ''}` : '';
  }
  function stepWord(run: RunView): string {
    if (run.phase === 'lost' || run.phase === 'asking') return `${stepText(run)}: asking the device what is true`;
    if (run.phase === 'parked' || (run.phase === 'ready' && rollout?.phase === 'held')) return `parked before ${stepText(run)}`;
    if (run.phase === 'armed') return 'armed';
    if (run.phase === 'broken') return `failed at ${run.step}, to be ${run.rung?.text}`;
    if (['reboot', 'return'].includes(run.rung?.step ?? run.step)) return `${stepText(run)}, down ${since(run.stepBegunAt, now)}`;
    return run.percent === null ? stepText(run) : `${stepText(run)} ${run.percent} %`;
  }
</script>

<p class="crumb"><a class="anchor" href="/rollouts">Rollouts</a></p>
{#if failure}<Trouble {failure} />{/if}
{#if rollout}
  <div class="head">
    <h1>{rollout.name}</h1>
    <State word={rollout.phase} />
    <span class="quiet">
      {#if rollout.startedAt}started {when(rollout.startedAt)} by {rollout.startedBy}{#if rollout.endedAt}, took {duration(
            Date.parse(rollout.endedAt) - Date.parse(rollout.startedAt),
          )}{:else}, {since(rollout.startedAt, now)} ago{/if}
      {:else}{when(rollout.createdAt)} by {rollout.createdBy}{/if}
    </span>
    <span class="grow"></span>
    {#if may('operator')}
      {#if rollout.phase === 'planned'}<button
          class="btn preset-outlined-surface-300-700"
          disabled={busy}
          onclick={() => (asking = { what: 'discard' })}>Discard</button
        ><button class="btn preset-filled-primary-600-400" disabled={busy} onclick={start}>Start</button
        >{#if rollout.begins?.at && rollout.begins.missed === null}<button
            class="btn preset-outlined-surface-300-700"
            disabled={busy}
            onclick={() => say('start-not')}>Do not begin then</button
          >{:else}<button class="btn preset-outlined-surface-300-700" disabled={busy} onclick={() => askFor(true)}>Begin later…</button
          >{/if}{/if}
      {#if waitsForWord}<button
          class="btn preset-filled-primary-600-400"
          disabled={busy}
          onclick={() => (asking = { what: 'approve', wave: waitsForWord.index })}>Approve wave {waitsForWord.index + 1}</button
        >{/if}
      {#if rollout.phase === 'held'}<button
          class="btn preset-filled-primary-600-400"
          disabled={busy}
          onclick={() => (asking = { what: 'continue' })}>Continue</button
        >{/if}
      {#if rollout.phase === 'running' || rollout.phase === 'held'}<button
          class="btn preset-outlined-error-500"
          disabled={busy}
          onclick={() => (asking = { what: 'stop' })}>Stop</button
        >{/if}
      {#if rollout.phase === 'running'}<button
          class="btn preset-outlined-surface-300-700"
          disabled={busy}
          onclick={() => (asking = { what: 'hold' })}>Pause</button
        >{/if}
    {/if}
    {#if may('operator') && rollout.phase === 'ended'}
      {#if rest.length > 0}<button
          class="btn preset-outlined-surface-300-700"
          title="A new plan for those that were not verified"
          onclick={() => (planning = 'rest')}>Plan the rest</button
        >{/if}
      {#if (rollout.totals.verified ?? 0) > 0}<button
          class="btn preset-outlined-surface-300-700"
          title="A new plan that takes the verified devices back to what they ran before"
          onclick={() => (planning = 'back')}>Plan the way back</button
        >{/if}
    {/if}
    {#if may('operator') && rollout.startedAt}<button
        class="btn preset-outlined-surface-300-700"
        onclick={() => (asking = { what: 'note' })}>Note</button
      >{/if}
    {#if rollout.phase !== 'ended'}<button
        class="btn preset-outlined-surface-300-700"
        title="The night on paper: order, times, who is there, the way back, and what to type by hand"
        onclick={() => attempt(sheet)}>Night sheet</button
      >{/if}
    {#if rollout.phase === 'planned'}<button
        class="btn preset-outlined-surface-300-700"
        title="The plan as a file, to be kept, looked over, or planned anew"
        onclick={() => attempt(planAsFile)}>Plan as a file</button
      >{/if}
    {#if rollout.startedAt}<button class="btn preset-outlined-surface-300-700" onclick={() => attempt(report)}>Report</button><button
        class="btn preset-outlined-surface-300-700"
        title="The report as a table of text"
        onclick={() => attempt(table)}>CSV</button
      >{/if}
  </div>
  {#if refused}<Trouble failure={refused} />{/if}
  {#if rollout.remarks.length > 0}
    <details class="remarks" open={rollout.phase === 'planned' || rollout.remarks.length < 3}>
      <summary>{rollout.remarks.length === 1 ? 'One remark' : `${rollout.remarks.length} remarks`} on the plan</summary>
      {#each rollout.remarks as remark, nth (nth)}<p class="note">{remark}</p>{/each}
    </details>
  {/if}
  {#if begins}<p class="begins" role="status" class:bad={rollout.begins?.missed != null}>{begins}</p>{/if}
  {#if rollout.trouble}<Trouble failure={rollout.trouble} />{/if}
  {#if rollout.heldBecause}
    <p class="held" role="alert">
      <strong>Held by {rollout.heldBy}.</strong>
      {rollout.heldBecause}. Nothing more begins; devices past their point of no return go on.
    </p>
  {/if}

  {#if rollout.phase === 'planned'}
    <div class="sheet summary">
      <dl>
        <dt>Steps of each device</dt>
        <dd>
          {#each ways as { who, steps }, w (w)}
            <div class="way" class:several={who !== ''}>
              {#if who !== ''}<span class="who">{who}</span>{/if}
              <span
                >{#each steps as s, i (i)}{#if s.pastReturn && !steps[i - 1]?.pastReturn}<span class="point">point of no return</span
                    >{/if}{#if s.afterSoak && !steps[i - 1]?.afterSoak}<span class="point">soak</span>{/if}<span
                    class="mono"
                    title={s.meaning}>{s.step}</span
                  >{i < steps.length - 1 ? ' → ' : ''}{/each}</span
              >
            </div>
          {/each}
        </dd>
        <dt>If one fails past it</dt>
        <dd>
          {#if backTexts.length === 0}it has no recovery step: it stays as it is{:else}it takes the recovery steps of its family, {rollout.wayBack
              ? 'at once'
              : 'when you say so'}: {backTexts.join(', then ')}{/if}
        </dd>
        {#if rollout.windows.length > 0}<dt>{rollout.windows.length === 1 ? 'Window' : 'Windows'}</dt>
          <dd>
            {#each rollout.windows as w, nth (nth)}<div>
                {#if rollout.windows.length > 1}{count(w.devices, 'device')}:{/if}
                {w.text}{#if w.next}, next {when(w.next.from)} to {when(w.next.until)}{/if}
              </div>{/each}
          </dd>{/if}
        <dt>At once</dt>
        <dd>
          at most {rollout.limits['rollout']}{#if rollout.apartMs > 0}; devices of one site begin to go down at least {duration(
              rollout.apartMs,
            )} apart{/if}
        </dd>
        <dt>Down</dt>
        <dd>
          up to about {duration(Math.max(...rollout.runs.map((r) => r.downMs)))} each{#if rehearsal}; at most {rehearsal.mostDown} at once{/if}
        </dd>
        <dt>Rehearsed</dt>
        <dd>
          {#if rehearsal?.stuck}it would not come to its end: {rehearsal.stuck}{:else if rehearsal}{duration(rehearsal.totalMs)} from start to
            end, at most {rehearsal.mostAtOnce} under way{#if rehearsal.approvals.length > 0}; the wait for a person's word not counted{/if}{:else}…{/if}
          {#if rehearsal}{#each [...boundText(rehearsal, new Date(now)), learnedText(rollout)] as line, nth (nth)}<div>
                {line}
              </div>{/each}{/if}
          {#if ahead}
            {@const [first, ...others] = takenBackText(ahead)}
            {#if others.length === 0}<div><Words text={first ?? ''} /></div>{:else}<details>
                <summary><Words text={first ?? ''} /></summary>{#each others as line, nth (nth)}<div class="quiet">{line}</div>{/each}
              </details>{/if}
          {/if}
        </dd>
        <dt>What if</dt>
        <dd><WhatIf {rollout} usual={rehearsal} /></dd>
        <dt>Unsaved settings</dt>
        <dd>{rollout.unsaved === 'save' ? 'saved, then it goes on' : 'that device is left out, and they are shown'}</dd>
      </dl>
    </div>
    {#if rehearsal && rehearsal.runs.length > 0}<Timeline {rehearsal} />{/if}
    {#if rollout.hazards.length > 0}
      <section class="wave sheet hurts" aria-label="What could hurt">
        <h2><span>What could hurt</span></h2>
        <table class="list hazards">
          <tbody
            >{#each rollout.hazards as h (h.code)}
              <tr class="kind"
                ><th colspan="2" scope="rowgroup"
                  >{#if h.accept}<b class="bad">To be accepted:</b>{/if}
                  {h.what} <span class="mono quiet">{h.code}</span></th
                ></tr
              >
              {#each h.groups as g, nth (nth)}<tr
                  ><td>{someOf(g.devices)}</td><td
                    >{g.words}{#if g.forMs !== null}<span class="quiet">, for about {duration(g.forMs)}</span>{/if}</td
                  ></tr
                >{/each}
            {/each}</tbody
          >
        </table>
      </section>
    {/if}
  {:else}
    <div class="sheet summary totals">
      <p class="so-far">
        <strong>{totalsOf(rollout)}</strong>
        {#if foretold}<span class="quiet" class:bad={foretold.stuck !== null}>{foretoldText(foretold)}</span>{/if}
      </p>
      <Share totals={rollout.totals} devices={rollout.devices} />
      {#each trouble as run (run.id)}
        <p class="why">
          <State word={run.outcome ?? (run.phase === 'absent' ? away(run) : 'failed')} />
          <span
            ><button class="anchor" onclick={() => (open = open === run.id ? null : run.id)}>{run.name}</button>
            {run.cause?.what} <span class="quiet"><Words text={run.cause?.next ?? ''} /></span>
            {#if run.attempt > 1}<span class="quiet">This was attempt {run.attempt}: the report shows why it failed before.</span
              >{/if}</span
          >
        </p>
      {/each}
      {#if rollout.devices <= mostBeside}
        <details class="beside" bind:open={isBeside}>
          <summary>Beside its rehearsal</summary>
          {#if besideFailed}<Trouble failure={besideFailed} />{/if}
          {#if beside}<Timeline timeline={beside} />{:else if !besideFailed}<p class="quiet">Asking the service…</p>{/if}
        </details>
      {/if}
    </div>
  {/if}

  {#snippet cells(run: RunView, plan: Rollout)}
    <td
      ><button class="name" aria-expanded={open === run.id} onclick={() => (open = open === run.id ? null : run.id)}>{run.name}</button></td
    >
    <td class="mono quiet if-wide">{run.address}</td>
    <td class="if-wide">{run.site}</td>
    <td class="mono if-room">{run.from} → {run.target}</td>
    <td class="if-room"><StepTrack {run} steps={plan.passages[run.passage]?.steps ?? []} /></td>
    <td>
      {#if run.outcome}<State word={run.outcome} note={run.cause?.what ?? run.detail ?? ''} />
      {:else if run.phase === 'waiting' || run.phase === 'absent'}<State
          word={run.phase === 'absent' ? away(run) : 'waiting'}
        />{#if run.waits}<span class="quiet wait">{waitWord(run)}</span>{/if}
      {:else}{@const pace = paceOf(run, plan.passages, now)}<span class="stepword" title={pace?.text}>{stepWord(run)}</span
        >{#if pace?.isLate && run.asks === null && !run.waits}<span class="quiet wait" class:slow={pace.isSlow}>{pace.text}</span
          >{/if}{#if run.asks}<span class="wait asks">{run.asks.split('\n')[0]}</span>{:else if run.waits}<span class="quiet wait"
            >{waitWord(run)}</span
          >{:else if run.wish}<span class="quiet wait">then it is left out</span>{/if}{/if}
    </td>
    <td class="quiet right">
      {#if run.outcome && run.begunAt && run.endedAt}{duration(Math.max(1000, Date.parse(run.endedAt) - Date.parse(run.begunAt)))}
      {:else if run.begunAt && !run.outcome}{since(run.begunAt, now)}
      {:else if plan.phase === 'planned'}~{duration(run.typicalMs)}{/if}
      <span class="acts">
        {#if may('operator') && (run.outcome === 'failed' || run.outcome === 'recovered' || run.outcome === 'not-begun' || run.outcome === 'withdrawn')}<button
            class="anchor"
            onclick={() => (asking = { what: 'retry', run })}>Retry</button
          >{/if}
        {#if may('operator') && plan.phase !== 'planned' && !run.outcome && !run.pastReturn && !run.rung && !run.wish}<button
            class="anchor"
            onclick={() => (asking = { what: 'skip', run })}>Skip</button
          ><button class="anchor" onclick={() => (asking = { what: 'take-over', run })}>By hand</button>{/if}
        {#if may('operator') && run.asks && run.asksToTell}<button
            class="anchor"
            title={run.asks}
            onclick={() => (asking = { what: 'answer', run })}>Answer</button
          >{:else if may('operator') && run.asks}<button class="anchor" title={run.asks} onclick={() => sayDone(run.id)}>It is done</button
          >{/if}
        {#if run.outcome === 'failed' || run.phase === 'broken'}<button
            class="anchor"
            title="A page for who stands before it: what not to do, what to do, what was tried"
            onclick={() => attempt(() => atSite(run))}>For the site</button
          >{/if}
        {#if may('operator') && (run.cause?.code === 'settings-changed' || run.cause?.code === 'log-complains')}<button
            class="anchor"
            title="What is otherwise in its settings or its log since the upgrade, and whether that is expected"
            onclick={() => askExpected(run)}>Differences</button
          >{/if}
        {#if may('operator') && run.takeBack}<button
            class="anchor"
            title="It is then {run.takeBack}"
            onclick={() => (asking = { what: 'take-back', run })}>Take back</button
          >{/if}
        {#if may('operator') && run.cutsOff}<button
            class="anchor"
            title="Its power is shared with {run.cutsOff.join(', ')}"
            onclick={() => (asking = { what: 'cut-off', run })}>Cut power</button
          >{/if}
        {#if may('operator') && run.guarded}<button
            class="anchor"
            title="It is neither down nor writing any more: what it hangs on may go down again"
            onclick={() => (asking = { what: 'release', run })}>Release</button
          >{/if}
      </span>
    </td>
  {/snippet}
  {#each rollout.waves as wave (wave.index)}
    {@const mine = runs.filter((r) => r.wave === wave.index)}
    {@const last = wave.index === rollout.waves.length - 1}
    <section class="wave sheet" data-phase={wave.phase} aria-label="Wave {wave.index + 1}">
      <h2>
        <span>Wave {wave.index + 1} · {wave.name}</span>
        <span class="phase"
          >{waveText(wave, rollout.phase)}{#if wave.soaksUntil && !wave.soak.judged && rollout.phase !== 'ended'}, {since(
              new Date(now).toISOString(),
              Date.parse(wave.soaksUntil),
            )} to go{/if}</span
        >
        <span class="quiet">{mine.length} {mine.length === 1 ? 'device' : 'devices'}</span>
        <span class="grow"></span>
        {#if may('operator') && wave.phase === 'waiting' && (rollout.phase === 'running' || rollout.phase === 'held') && wave.index > rollout.currentWave}
          {#if wave.heldBack}<button class="anchor" disabled={busy} onclick={() => say('continue', { wave: wave.index })}
              >Let it be opened</button
            >{:else}<button
              class="anchor"
              disabled={busy}
              title="It is not opened until you say so; those before it go on"
              onclick={() => say('hold', { wave: wave.index, reason: 'from the console' })}>Hold it back</button
            >{/if}
        {/if}
        <span class="quiet gate">{gateText(wave, last)}</span>
      </h2>
      {#if wave.heldBack && wave.phase === 'waiting'}<p class="back" role="status">
          Held back by {wave.heldBack.by}: {wave.heldBack.reason}. It is not opened until somebody says so.
        </p>{/if}
      {#if mine.length > mostRows}
        {@const detailed = mine.find((m) => m.id === open)}
        <VirtualTable
          rows={mine}
          label="Devices of wave {wave.index + 1}"
          columns={7}
          maxHeight="min(60vh, 40rem)"
          onopen={(run) => (open = open === run.id ? null : run.id)}
        >
          {#snippet head()}<tr
              ><th>Device</th><th class="if-wide">Address</th><th class="if-wide">Site</th><th class="if-room">Version</th><th
                class="if-room">Steps</th
              ><th>State</th><th>Time</th></tr
            >{/snippet}
          {#snippet row(run)}{#if rollout}{@render cells(run, rollout)}{/if}{/snippet}
        </VirtualTable>
        {#if detailed}<RunDetail rollout={rollout.id} run={detailed.id} />{/if}
      {:else}
        <table class="list">
          <colgroup
            ><col style="width:11rem" /><col style="width:8.5rem" /><col style="width:8rem" /><col style="width:9.5rem" /><col /><col
              style="width:13rem"
            /><col style="width:9rem" /></colgroup
          >
          <thead class="unseen"
            ><tr><th>Device</th><th>Address</th><th>Site</th><th>Version</th><th>Steps</th><th>State</th><th>Time</th></tr></thead
          >
          <tbody>
            {#each mine as run (run.id)}
              <tr class="run" class:open={open === run.id}>
                {@render cells(run, rollout)}
              </tr>
              {#if open === run.id}<tr><td colspan="7" class="nopad"><RunDetail rollout={rollout.id} run={run.id} /></td></tr>{/if}
            {/each}
          </tbody>
        </table>
      {/if}
      {#if wave.soak.judged}<Soak rollout={rollout.id} wave={wave.index} />{/if}
    </section>
  {/each}

  {#if rollout.phase === 'planned' && notices.length > 0}
    <section class="wave sheet" aria-label="Know before">
      <h2><span>Know before</span></h2>
      <table class="list">
        <tbody
          >{#each notices as n, nth (nth)}<tr><td>{someOf(n.names)}</td><td>{n.words}</td></tr>{/each}</tbody
        >
      </table>
    </section>
  {/if}
  {#if rollout.leftOut.length > 0}
    <section class="wave sheet" aria-label="Left out">
      <h2><span>Left out of the plan</span></h2>
      <table class="list">
        <tbody
          >{#each leftOut as out, nth (nth)}<tr><td>{someOf(out.names)}</td><td class="quiet">{out.words}</td></tr>{/each}</tbody
        >
      </table>
    </section>
  {/if}
{:else if !failure}
  <div class="sheet" aria-busy="true"><Empty title="Asking the service…">One moment.</Empty></div>
{/if}

{#if planning && rollout}
  <PlanDialog
    size={planning === 'rest' ? rest.length : (rollout.totals.verified ?? 0)}
    ids={() => (planning === 'rest' ? rest.map((r) => r.device) : [])}
    called={planning === 'rest' ? `rest of ${rollout.name}` : ''}
    backFrom={planning === 'back' ? rollout.id : null}
    onclose={() => (planning = null)}
    onplanned={(made) => goTo(`/rollouts/${encodeURIComponent(made)}`)}
  />
{/if}
{#if accepting && rollout}
  <FormDialog
    title={later ? 'Begin at a moment' : 'Accept what could hurt, and start?'}
    about={`${later ? 'It begins by itself then, with nobody here. ' : ''}${
      toAccept.length > 0
        ? 'Each of these has to be accepted by whoever starts it. Your name is kept with it, in the journal and in the report.'
        : ''
    }`}
    word={later ? 'Begin then' : 'Accept and start'}
    onclose={() => (accepting = false)}
    send={startAccepted}
  >
    {#if later}
      <div class="pair">
        <label class="label"
          ><span class="label-text">Begins</span><input class="input" type="datetime-local" required bind:value={times.at} /></label
        >
        <label class="label"
          ><span class="label-text">Not after (an hour later)</span><input
            class="input"
            type="datetime-local"
            bind:value={times.latest}
          /></label
        >
      </div>
      <label class="label"
        ><span class="label-text">To be done by: nobody goes down who would not be back by then</span><input
          class="input"
          type="datetime-local"
          bind:value={times.doneBy}
        /></label
      >
    {/if}
    {#each toAccept as h (h.code)}
      <label class="check hazard"
        ><input class="checkbox" type="checkbox" required bind:checked={accepted[h.code]} />
        <span
          ><b>{h.what}</b>
          {#each h.groups.slice(0, mostGroups) as g, nth (nth)}<span class="group"
              >{someOf(g.devices)}: {g.words}{#if g.forMs !== null}, for about {duration(g.forMs)}{/if}</span
            >{/each}{#if h.groups.length > mostGroups}<span class="group"
              >and {h.groups.length - mostGroups} more like these, in the plan behind this</span
            >{/if}</span
        ></label
      >
    {/each}
    {#if toAccept.length > 0}
      <label class="label"
        ><span class="label-text">Reason (optional): the report shows it</span><input
          class="input"
          maxlength="500"
          bind:value={acceptedWhy}
        /></label
      >
    {/if}
  </FormDialog>
{/if}
{#if asking}
  {@const { title, word } = asks[asking.what]}
  <FormDialog
    title={asking.what === 'skip' ? `Leave ${asking.run.name} out?` : asking.what === 'answer' ? `${asking.run.name} is waited for` : title}
    about={aboutOf(asking)}
    {word}
    onclose={() => (asking = null)}
    send={ask}
  >
    {#if asking.what === 'hold'}
      <label class="label"
        ><span class="label-text">Reason (optional)</span><input class="input" bind:value={words} maxlength="500" /></label
      >
    {/if}
    {#if asking.what === 'note' || asking.what === 'skip' || asking.what === 'take-over' || asking.what === 'answer'}
      <label class="label"
        ><span class="label-text">{{ note: 'Note', skip: 'Why', 'take-over': 'Why', answer: 'Answer' }[asking.what]}</span><input
          class="input"
          bind:value={words}
          required
          maxlength="500"
        /></label
      >
    {/if}
    {#if asking.what === 'expect' && differing}
      <p class="quiet">{differing.family}, from {differing.from} to {differing.to}:</p>
      <pre class="differing">{differing.lines.join('\n')}</pre>
    {/if}
  </FormDialog>
{/if}

<style>
  .differing {
    max-height: 40vh;
    overflow: auto;
    padding: 0.5rem 0.75rem;
    border: 1px solid var(--line);
    font-size: 0.85rem;
  }
  .back {
    padding: 0.5rem 1rem;
    font-weight: 550;
  }
  .begins {
    margin-bottom: 0.75rem;
    font-weight: 550;
  }
  .remarks {
    margin-bottom: 0.75rem;
  }
  .remarks summary {
    color: var(--quiet);
    cursor: pointer;
  }
  .beside {
    margin-top: 0.5rem;
  }
  .beside :global(.timeline) {
    border: none;
    padding: 0.5rem 0 0;
  }
  .beside summary {
    cursor: pointer;
    font-weight: 550;
  }
  .so-far {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    gap: 0.2rem 1rem;
  }
  .way.several {
    display: grid;
    grid-template-columns: 15rem 1fr;
    gap: 0.75rem;
  }
  .way + .way {
    margin-top: 0.3rem;
  }
  .way .who {
    color: var(--quiet);
  }
  .way .mono {
    white-space: nowrap;
  }
  .hazards .kind th {
    text-align: left;
    font-weight: 600;
    color: var(--ink);
    padding-top: 0.5rem;
    border-bottom: 0;
  }
  .hurts {
    margin-top: 0.75rem;
  }
  .hazards td {
    white-space: normal;
  }
  .hazards td:first-child {
    padding-left: 1.5rem;
    width: 34%;
  }
  @media (max-width: 44rem) {
    .hazards,
    .hazards tbody,
    .hazards tr {
      display: block;
      min-width: 0;
    }
    .hazards td,
    .hazards .kind th {
      display: block;
      width: auto;
      min-width: 0;
      white-space: normal;
    }
    .hazards td:first-child {
      border-bottom: 0;
      padding-bottom: 0;
      width: auto;
    }
    .hazards td + td {
      padding-left: 1.5rem;
    }
  }
  .bad {
    color: var(--bad);
  }
  .hazard {
    display: grid;
    grid-template-columns: auto 1fr;
    align-items: start;
    gap: 0.6rem;
    margin-top: 0.5rem;
  }
  .hazard .group {
    display: block;
    color: var(--quiet);
  }
  .crumb {
    margin-bottom: 0.25rem;
  }
  .head {
    display: flex;
    align-items: center;
    gap: 0.9rem;
    margin-bottom: 0.75rem;
    flex-wrap: wrap;
  }
  .held {
    border-left: 4px solid var(--bad);
    background: var(--sheet);
    padding: 0.6rem 0.9rem;
    margin-bottom: 0.75rem;
    border-radius: var(--radius-container);
  }
  .held strong {
    color: var(--bad);
  }
  .summary {
    padding: 0.7rem 0.9rem;
    margin-bottom: 0.75rem;
  }
  .totals {
    display: grid;
    gap: 0.45rem;
  }
  .why {
    display: grid;
    grid-template-columns: 7rem 1fr;
    gap: 0.5rem;
  }
  dl {
    display: grid;
    grid-template-columns: 10rem 1fr;
    gap: 0.3rem 0.75rem;
  }
  dt {
    color: var(--quiet);
  }
  .point {
    color: var(--care);
    font-weight: 600;
    font-size: 0.8125rem;
    border-left: 2px solid var(--care);
    padding-left: 0.35rem;
    margin-right: 0.45rem;
  }
  .wave {
    position: relative;
    margin-bottom: 0.75rem;
    overflow: hidden;
  }
  @media (max-width: 60rem) {
    dl,
    .why {
      grid-template-columns: minmax(0, 1fr);
    }
    h2 {
      flex-wrap: wrap;
    }
  }
  /* Its steps want the room more than its address does. */
  @media (min-width: 40.01rem) and (max-width: 75rem) {
    .wave table :is(col, th, :global(td)):nth-child(2):not([colspan]) {
      display: none;
    }
    .wave table {
      min-width: 54rem;
    }
  }
  /* How it stands comes right after its name. */
  @media (max-width: 40rem) {
    .run > :global(td:first-child) {
      order: -2;
    }
    .run > :global(td:nth-child(6)) {
      order: -1;
      flex: 1 0 100%;
    }
  }
  .wave {
    border-left-width: 3px;
  }
  .wave[data-phase='open'] {
    border-left-color: var(--now);
  }
  h2 {
    display: flex;
    gap: 0.9rem;
    align-items: baseline;
    padding: 0.5rem 0.7rem;
    border-bottom: 1px solid var(--line);
    font-size: 0.875rem;
  }
  h2 > span:first-child {
    font-weight: 650;
  }
  .phase {
    font-weight: 550;
    color: var(--now);
  }
  .gate {
    font-size: 0.8125rem;
  }
  .wave[data-phase='waiting'] .phase {
    color: var(--quiet);
  }
  .unseen {
    position: absolute;
    clip-path: inset(50%);
    height: 1px;
    overflow: hidden;
  }
  .wave table {
    table-layout: fixed;
  }
  td {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  td.nopad {
    padding: 0;
    white-space: normal;
  }
  .name {
    font-weight: 600;
  }
  .name:hover {
    text-decoration: underline;
  }
  /* What may be done stands in a line of its own where there is not room for all of it. */
  .acts {
    display: inline-flex;
    flex-wrap: wrap;
    justify-content: flex-end;
    gap: 0 0.6rem;
    white-space: nowrap;
  }
  .acts :global(button) {
    margin-left: 0.6rem;
  }
  .stepword {
    white-space: normal;
    color: var(--now);
    font-weight: 550;
  }
  .asks {
    color: var(--care);
    font-weight: 600;
  }
  .wait {
    display: block;
    white-space: normal;
    font-size: 0.8125rem;
    max-width: 22rem;
  }
  .slow {
    color: var(--care);
  }
  .right {
    text-align: right;
    white-space: normal;
  }
</style>
