import type { ConsoleAt, Guards } from '@barrow/core';
import type { Family } from '@barrow/families';
import type { DeviceRow } from '../data/entities.js';

/** Where a device can be spoken to when it does not come back; or why it cannot; null: nobody has said that it has a console line. */
export function consoleOf(
  row: DeviceRow,
  rows: ReadonlyMap<string, DeviceRow>,
  families: ReadonlyMap<string, Family>,
  guards: Guards,
): { readonly console: ConsoleAt } | { readonly why: string } | null {
  const end = row.told?.console;
  if (!end) return null;
  const server = rows.get(end.device);
  const name = server?.name ?? end.device;
  if (!server) return { why: `${name}, into which its console is plugged, is no longer known` };
  if (end.port === null) return { why: `nobody knows into which line of ${name} its console is plugged` };
  if (!families.get(server.family ?? '')?.procedures['join-line'])
    return { why: `${name}, into which its console is plugged, is not one whose lines Barrow can join` };
  if (guards.under.get(server.id)?.includes(row.id)) return { why: `${name}, into which its console is plugged, is reached through it` };
  return { console: { device: server.id, name, line: end.port } };
}

/** What that means for a rollout, as a notice of its plan. */
export const spokenText = (found: NonNullable<ReturnType<typeof consoleOf>>): string =>
  'console' in found
    ? `it is spoken to over ${found.console.line} of ${found.console.name} if it does not come back`
    : `it is not spoken to over its console if it does not come back: ${found.why}`;
