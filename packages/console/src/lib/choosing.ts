import type { Device } from '@barrow/core';
import type { DevicePages } from './device-pages.svelte.js';
import { chosenDevices } from './selection.svelte.js';
import { client } from './session.svelte.js';

/** Chooses devices of a list of which only a part is here; what goes wrong is told to `failed`. */
export function choosingOf(pages: DevicePages, failed: (error: unknown) => void) {
  const shown = (): string => JSON.stringify(pages.query);
  const names = (from?: number, count?: number) => client().deviceNames({ ...pages.query, offset: from, limit: count });
  return {
    hasAll: (): boolean => chosenDevices.hasAll(shown()),
    toggleAll: () => void chosenDevices.toggleAll(shown(), () => names()).catch(failed),
    toggle: ({ id, name, network }: Device, toHere: boolean, index: number) =>
      void chosenDevices.toggle({ id, name, network }, index, toHere, names).catch(failed),
  };
}
