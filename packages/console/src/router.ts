import { createRouter } from 'sv-router';
import { placeBy } from './lib/place.js';
import Advisories from './pages/Advisories.svelte';
import Backups from './pages/Backups.svelte';
import Device from './pages/Device.svelte';
import Discovery from './pages/Discovery.svelte';
import Devices from './pages/Devices.svelte';
import Families from './pages/Families.svelte';
import Image from './pages/Image.svelte';
import Images from './pages/Images.svelte';
import Nowhere from './pages/Nowhere.svelte';
import WhereToLook from './pages/WhereToLook.svelte';
import Rollout from './pages/Rollout.svelte';
import Rollouts from './pages/Rollouts.svelte';
import Staging from './pages/Staging.svelte';
import Standing from './pages/Standing.svelte';
import Deeds from './pages/Deeds.svelte';
import Notices from './pages/Notices.svelte';
import Tokens from './pages/Tokens.svelte';
import Transfer from './pages/Transfer.svelte';
import Transfers from './pages/Transfers.svelte';

export const { route, navigate } = createRouter({
  '/': Devices,
  '/where': WhereToLook,
  '/discovery': Discovery,
  '/devices/:id': Device,
  // Drawing brings its own library, which no other page needs.
  '/map': () => import('./pages/Map.svelte'),
  '/images': Images,
  '/images/:id': Image,
  '/standing': Standing,
  '/advisories': Advisories,
  '/advisories/:id': Advisories,
  '/staging': Staging,
  '/families': Families,
  '/backups': Backups,
  '/deeds': Deeds,
  '/notices': Notices,
  '/access': Tokens,
  '/transfers': Transfers,
  '/transfers/:id': Transfer,
  '/rollouts': Rollouts,
  '/rollouts/:id': Rollout,
  '*': Nowhere,
});

placeBy({ route, go: (path) => void navigate(path as never) });
