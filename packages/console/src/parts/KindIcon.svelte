<script lang="ts">
  import Antenna from '@lucide/svelte/icons/antenna';
  import Box from '@lucide/svelte/icons/box';
  import Cctv from '@lucide/svelte/icons/cctv';
  import Network from '@lucide/svelte/icons/network';
  import HardDrive from '@lucide/svelte/icons/hard-drive';
  import Phone from '@lucide/svelte/icons/phone';
  import Plug from '@lucide/svelte/icons/plug';
  import RadioTower from '@lucide/svelte/icons/radio-tower';
  import Router from '@lucide/svelte/icons/router';
  import Smartphone from '@lucide/svelte/icons/smartphone';
  import SquareTerminal from '@lucide/svelte/icons/square-terminal';
  import Wifi from '@lucide/svelte/icons/wifi';
  import type { Kind } from '@barrow/core';

  let { kind, size = 15 }: { kind: Kind; size?: number } = $props();
  const icons = {
    switch: Network,
    router: Router,
    'access-point': Wifi,
    camera: Cctv,
    phone: Phone,
    controller: RadioTower,
    recorder: HardDrive,
    'base-station': Antenna,
    handset: Smartphone,
    'power-strip': Plug,
    'console-server': SquareTerminal,
    other: Box,
  } as const;
  const Icon = $derived(icons[kind]);
</script>

<Icon {size} aria-hidden="true" />
