import { createRouter } from 'sv-router';
import Device from './pages/Device.svelte';
import Discovery from './pages/Discovery.svelte';
import Devices from './pages/Devices.svelte';
import Nowhere from './pages/Nowhere.svelte';
import WhereToLook from './pages/WhereToLook.svelte';
import Rollout from './pages/Rollout.svelte';
import Rollouts from './pages/Rollouts.svelte';

export const { p, navigate, isActive, route } = createRouter({
  '/': Devices,
  '/where': WhereToLook,
  '/discovery': Discovery,
  '/devices/:id': Device,
  // Drawing brings its own library, which no other page needs.
  '/map': () => import('./pages/Map.svelte'),
  '/rollouts': Rollouts,
  '/rollouts/:id': Rollout,
  '*': Nowhere,
});
