<script lang="ts">
  import { labelled } from './lib/labelled.js';
  import Moon from '@lucide/svelte/icons/moon';
  import Sun from '@lucide/svelte/icons/sun';
  import Menu from '@lucide/svelte/icons/menu';
  import X from '@lucide/svelte/icons/x';
  import LogOut from '@lucide/svelte/icons/log-out';
  import { tick } from 'svelte';
  import { MediaQuery } from 'svelte/reactivity';
  import { Router } from 'sv-router';
  import SignIn from './pages/SignIn.svelte';
  import { localTime } from '@barrow/client';
  import { duration, type ServiceTrouble } from '@barrow/core';
  import Trouble from './parts/Trouble.svelte';
  import Undo from './parts/Undo.svelte';
  import { hearChanges, live, keepListening } from './lib/live.svelte.js';
  import { focusHeading, keepFocus, keepScrolling, keepTitle } from './lib/keep-focus.js';
  import { mode, switchMode } from './lib/mode.svelte.js';
  import { client, failureOf, session, signOut } from './lib/session.svelte.js';
  import { undo } from './lib/undo.svelte.js';
  import { route } from './router.js';

  // Down the rail, as the technician's day goes.
  const groups = [
    {
      word: 'find',
      pages: [
        { href: '/where', word: 'Where to look' },
        { href: '/discovery', word: 'Discovery' },
      ],
    },
    {
      word: 'gear',
      pages: [
        { href: '/', word: 'Devices', also: '/devices' },
        { href: '/map', word: 'Map' },
        { href: '/families', word: 'Families' },
      ],
    },
    {
      word: 'should run',
      pages: [
        { href: '/images', word: 'Images' },
        { href: '/standing', word: 'Standing' },
        { href: '/advisories', word: 'Advisories' },
      ],
    },
    {
      word: 'bring',
      pages: [
        { href: '/staging', word: 'Staging' },
        { href: '/transfers', word: 'Transfers' },
      ],
    },
    { word: 'change', pages: [{ href: '/rollouts', word: 'Rollouts' }] },
    {
      word: 'proof',
      pages: [
        { href: '/backups', word: 'Backups' },
        { href: '/deeds', word: 'Audit log' },
      ],
    },
    {
      word: 'house',
      pages: [
        { href: '/notices', word: 'Notices' },
        { href: '/access', word: 'Access' },
      ],
    },
  ];
  const isHere = (page: { href: string; also?: string }): boolean =>
    route.pathname === page.href || route.pathname.startsWith(`${page.also ?? page.href.replace(/^\/$/, '/devices')}/`);

  /** As the style has it. */
  const narrow = new MediaQuery('max-width: 68.75rem');
  let main = $state<HTMLElement | null>(null);
  let menu = $state(false);
  let menuButton = $state<HTMLButtonElement | null>(null);
  let shown = '';
  $effect(() => {
    const path = route.pathname;
    if (shown !== '' && shown !== path) {
      menu = false;
      main?.scrollTo(0, 0);
      void tick().then(() => focusHeading(main));
    }
    shown = path;
  });
  $effect(() => {
    if (!main) return;
    const end = [keepTitle(main), keepScrolling(main), keepFocus(() => main)];
    return () => end.forEach((stop) => stop());
  });
  function keys(event: KeyboardEvent) {
    if (event.key !== 'Escape' || !menu) return;
    menu = false;
    menuButton?.focus();
  }
  let now = $state(Date.now());
  const told = $derived({ connecting: 'connecting…', live: 'live', lost: 'lost' }[live.state]);
  let troubles = $state.raw<ServiceTrouble[]>([]);
  const look = () =>
    client()
      .health()
      .then((health) => (troubles = health.troubles))
      .catch(() => undefined);
  $effect(() => {
    if (live.state !== 'lost') return;
    const clock = setInterval(() => (now = Date.now()), 1000);
    return () => clearInterval(clock);
  });

  $effect(() => {
    if (session.token === null) return undo.aside();
    client()
      .about()
      .then((about) => (session.about = about))
      .catch(failureOf);
    void look();
    const end = [hearChanges(['health'], look), keepListening()];
    return () => end.forEach((stop) => stop());
  });
</script>

<svelte:window onkeydown={keys} />
{#snippet liveMark()}
  <span class="live" data-state={live.state} role="status">
    <svg viewBox="0 0 10 10" width="10" height="10" aria-hidden="true">
      {#if live.state === 'live'}<circle cx="5" cy="5" r="4" fill="currentColor" />{:else}<circle
          cx="5"
          cy="5"
          r="3.4"
          fill="none"
          stroke="currentColor"
          stroke-width="1.6"
        />{/if}
    </svg>
    {told}
  </span>
{/snippet}
{#if session.token === null}
  <SignIn />
{:else}
  <div class="frame" class:menu>
    <a class="skip" href="#main">Skip to the content</a>
    <header class="bar">
      <button class="icon" bind:this={menuButton} aria-expanded={menu} aria-controls="rail" onclick={() => (menu = !menu)}>
        {#if menu}<X size={18} aria-hidden="true" />{:else}<Menu size={18} aria-hidden="true" />{/if}<span>Pages</span>
      </button>
      <a class="brand" href="/"><img src="/mark.svg" alt="" width="22" height="22" /> Barrow</a>
      <span class="grow"></span>
      {#if narrow.current}{@render liveMark()}{/if}
    </header>
    <aside class="rail" id="rail" aria-label="Barrow">
      <a class="brand" href="/"><img src="/mark.svg" alt="" width="22" height="22" /> Barrow</a>
      <nav aria-label="Pages">
        {#each groups as group (group.word)}
          <div role="group" aria-label={group.word}>
            <span class="group" aria-hidden="true">{group.word}</span>
            {#each group.pages as page (page.href)}
              <a href={page.href} aria-current={isHere(page) ? 'page' : undefined}>{page.word}</a>
            {/each}
          </div>
        {/each}
      </nav>
      <div class="foot">
        {#if !narrow.current}{@render liveMark()}{/if}
        {#if session.about}<span class="who quiet">{session.about.who} · {session.about.role}</span>{/if}
        <span class="acts">
          <button
            class="icon"
            onclick={switchMode}
            aria-label={mode.now === 'dark' ? 'Light colours' : 'Dark colours'}
            title={mode.now === 'dark' ? 'Light colours' : 'Dark colours'}
          >
            {#if mode.now === 'dark'}<Sun size={16} aria-hidden="true" />{:else}<Moon size={16} aria-hidden="true" />{/if}
          </button>
          <button class="icon" onclick={signOut} aria-label="Sign out" title="Sign out"><LogOut size={16} aria-hidden="true" /></button>
        </span>
      </div>
    </aside>
    {#if menu}<button class="veil" tabindex="-1" aria-hidden="true" onclick={() => (menu = false)}></button>{/if}
    <!-- It scrolls, and so can be reached where nothing on it can. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <main id="main" tabindex="0" bind:this={main} use:labelled>
      {#if live.state === 'lost' && live.lostSince !== null}
        <p class="stale" role="status">
          The connection is lost since {localTime(new Date(live.lostSince).toISOString())}: what is shown is {duration(
            Math.max(1000, now - live.lostSince),
          )} old. It is tried again by itself.
        </p>
      {/if}
      {#each troubles as failure, nth (nth)}<Trouble {failure} />{/each}
      <Router />
      <Undo />
    </main>
  </div>
{/if}

<style>
  .frame {
    display: grid;
    grid-template: 1fr / 11.5rem minmax(0, 1fr);
    height: 100%;
  }
  .skip {
    position: absolute;
    left: -999px;
  }
  .skip:focus {
    left: 1rem;
    top: 0.5rem;
    background: var(--sheet);
    padding: 0.25rem 0.5rem;
    z-index: 40;
  }
  .bar {
    display: none;
    align-items: center;
    gap: 0.75rem;
    padding: 0 0.75rem;
    height: 2.9rem;
    background: var(--sheet);
    border-bottom: 1px solid var(--line);
  }
  .rail {
    display: flex;
    flex-direction: column;
    min-height: 0;
    overflow: auto;
    padding: 0.75rem 0.6rem 0.6rem;
    background: var(--sheet);
    border-right: 1px solid var(--line);
  }
  .brand {
    display: flex;
    align-items: center;
    gap: 0.55rem;
    font-weight: 700;
    font-size: 1rem;
    color: var(--ink);
  }
  .rail .brand {
    padding: 0.1rem 0.5rem 0.9rem;
  }
  nav {
    flex: 1;
    display: flex;
    flex-direction: column;
    gap: 0.75rem;
  }
  .group {
    display: block;
    padding: 0 0.5rem 0.15rem;
    font-size: 0.75rem;
    color: var(--quiet);
  }
  nav a {
    display: block;
    padding: 0.28rem 0.5rem;
    border-radius: var(--radius-base);
    color: var(--ink);
    font-weight: 500;
  }
  nav a:hover {
    background: var(--ground);
    text-decoration: none;
  }
  nav a[aria-current='page'] {
    background: color-mix(in oklab, var(--now) 13%, transparent);
    box-shadow: inset 3px 0 0 var(--now);
    font-weight: 650;
  }
  .foot {
    display: grid;
    gap: 0.3rem;
    padding: 0.9rem 0.5rem 0;
    font-size: 0.8125rem;
  }
  .acts {
    display: flex;
    gap: 0.2rem;
    margin-left: -0.4rem;
  }
  .live {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    color: var(--quiet);
    white-space: nowrap;
  }
  .live[data-state='live'] svg {
    color: var(--good);
  }
  .live[data-state='lost'] {
    color: var(--bad);
    font-weight: 600;
  }
  .stale {
    margin-bottom: 0.75rem;
    padding: 0.4rem 0.75rem;
    border: 1px solid var(--bad);
    border-radius: var(--radius-base);
    color: var(--bad);
    background: var(--sheet);
    font-weight: 600;
  }
  .icon {
    display: inline-flex;
    align-items: center;
    justify-content: center;
    gap: 0.4rem;
    min-width: 1.9rem;
    height: 1.9rem;
    border-radius: var(--radius-base);
    color: var(--quiet);
  }
  .bar .icon {
    padding: 0 0.5rem;
    margin-left: -0.5rem;
    font-weight: 550;
    color: var(--ink);
  }
  .icon:hover {
    color: var(--ink);
    background: var(--ground);
  }
  .veil {
    position: fixed;
    inset: 0;
    z-index: 20;
    background: #0005;
  }
  main {
    overflow: auto;
    padding: 1rem 1.25rem 2rem;
    outline: none;
  }
  main :global(h1:focus) {
    outline: none;
  }

  /* Where there is no room beside the page, the rail comes over it at a press. */
  @media (max-width: 68.75rem) {
    .frame {
      grid-template: auto minmax(0, 1fr) / minmax(0, 1fr);
    }
    .bar {
      display: flex;
    }
    .rail {
      position: fixed;
      inset: 2.9rem auto 0 0;
      z-index: 30;
      width: 14rem;
      visibility: hidden;
      transform: translateX(-100%);
      box-shadow: 0 10px 40px #0003;
    }
    .menu .rail {
      visibility: visible;
      transform: none;
    }
    .rail .brand {
      display: none;
    }
    main {
      padding-inline: 0.9rem;
    }
  }
  @media (prefers-reduced-motion: no-preference) {
    .rail {
      transition: transform 120ms ease-out;
    }
  }
</style>
