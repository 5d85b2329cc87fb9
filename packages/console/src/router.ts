import { createRouter } from 'sv-router';
import Device from './pages/Device.svelte';
import Devices from './pages/Devices.svelte';
import Nowhere from './pages/Nowhere.svelte';
import Rollout from './pages/Rollout.svelte';
import Rollouts from './pages/Rollouts.svelte';

export const { p, navigate, isActive, route } = createRouter({
  '/': Devices,
  '/devices/:id': Device,
  '/rollouts': Rollouts,
  '/rollouts/:id': Rollout,
  '*': Nowhere,
});
