<script lang="ts">
  import Moon from '@lucide/svelte/icons/moon';
  import Sun from '@lucide/svelte/icons/sun';
  import LogOut from '@lucide/svelte/icons/log-out';
  import { Router } from 'sv-router';
  import SignIn from './pages/SignIn.svelte';
  import { localTime } from '@barrow/client';
  import { duration, type ServiceTrouble } from '@barrow/core';
  import Trouble from './parts/Trouble.svelte';
  import { hearChanges, live, keepListening } from './lib/live.svelte.js';
  import { mode, switchMode } from './lib/mode.svelte.js';
  import { client, failureOf, session, signOut } from './lib/session.svelte.js';
  import { route } from './router.js';

  // Left to right, as the technician's day goes: what is out there, what it runs, what it should run,
  // what is staged, what will happen and happens, and what moves.
  const pages = [
    { href: '/where', word: 'Where to look', here: (path: string) => path.startsWith('/where') },
    { href: '/discovery', word: 'Discovery', here: (path: string) => path.startsWith('/discovery') },
    { href: '/', word: 'Devices', here: (path: string) => path === '/' || path.startsWith('/devices') },
    { href: '/map', word: 'Map', here: (path: string) => path.startsWith('/map') },
    { href: '/images', word: 'Images', here: (path: string) => path.startsWith('/images') },
    { href: '/standing', word: 'Standing', here: (path: string) => path.startsWith('/standing') },
    { href: '/advisories', word: 'Advisories', here: (path: string) => path.startsWith('/advisories') },
    { href: '/staging', word: 'Staging', here: (path: string) => path.startsWith('/staging') },
    { href: '/rollouts', word: 'Rollouts', here: (path: string) => path.startsWith('/rollouts') },
    { href: '/transfers', word: 'Transfers', here: (path: string) => path.startsWith('/transfers') },
  ];
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
    if (session.token === null) return;
    client()
      .about()
      .then((about) => (session.about = about))
      .catch(failureOf);
    void look();
    const end = [hearChanges(['health'], look), keepListening()];
    return () => end.forEach((stop) => stop());
  });
</script>

{#if session.token === null}
  <SignIn />
{:else}
  <div class="frame">
    <a class="skip" href="#main">Skip to the content</a>
    <header>
      <a class="brand" href="/"><img src="/mark.svg" alt="" width="22" height="22" /> Barrow</a>
      <nav aria-label="Pages">
        {#each pages as page (page.href)}
          <a href={page.href} aria-current={page.here(route.pathname) ? 'page' : undefined}>{page.word}</a>
        {/each}
      </nav>
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
      {#if session.about}<span class="who quiet">{session.about.who} · {session.about.role}</span>{/if}
      <button
        class="icon"
        onclick={switchMode}
        aria-label={mode.now === 'dark' ? 'Light colours' : 'Dark colours'}
        title={mode.now === 'dark' ? 'Light colours' : 'Dark colours'}
      >
        {#if mode.now === 'dark'}<Sun size={16} />{:else}<Moon size={16} />{/if}
      </button>
      <button class="icon" onclick={signOut} aria-label="Sign out" title="Sign out"><LogOut size={16} /></button>
    </header>
    <main id="main" tabindex="-1">
      {#if live.state === 'lost' && live.lostSince !== null}
        <p class="stale" role="status">
          The connection is lost since {localTime(new Date(live.lostSince).toISOString())}: what is shown is {duration(
            Math.max(1000, now - live.lostSince),
          )} old. It is tried again by itself.
        </p>
      {/if}
      {#each troubles as failure (failure.code)}<Trouble {failure} />{/each}
      <Router />
    </main>
  </div>
{/if}

<style>
  .frame {
    display: grid;
    grid-template-rows: auto 1fr;
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
    z-index: 10;
  }
  header {
    display: flex;
    align-items: center;
    gap: 1rem;
    padding: 0 1.25rem;
    height: 2.9rem;
    background: var(--sheet);
    border-bottom: 1px solid var(--line);
  }
  .brand {
    display: flex;
    align-items: center;
    gap: 0.55rem;
    font-weight: 700;
    font-size: 1rem;
    color: var(--ink);
    margin-right: 0.4rem;
  }
  nav {
    display: flex;
    height: 100%;
    flex: 1;
    gap: 0.1rem;
  }
  nav a {
    display: flex;
    align-items: center;
    padding: 0 0.55rem;
    white-space: nowrap;
    color: var(--quiet);
    font-weight: 550;
    border-block: 2px solid transparent;
  }
  nav a:hover {
    color: var(--ink);
    text-decoration: none;
  }
  nav a[aria-current='page'] {
    color: var(--ink);
    border-bottom-color: var(--now);
  }
  .live,
  .who {
    white-space: nowrap;
  }
  .live {
    display: inline-flex;
    align-items: center;
    gap: 0.4rem;
    color: var(--quiet);
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
    display: grid;
    place-items: center;
    width: 1.9rem;
    height: 1.9rem;
    border-radius: var(--radius-base);
    color: var(--quiet);
  }
  .icon:hover {
    color: var(--ink);
    background: var(--ground);
  }
  main {
    overflow: auto;
    padding: 1rem 1.25rem 2rem;
    outline: none;
  }
</style>
