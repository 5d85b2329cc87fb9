import { duration, type RolloutSummary } from '@barrow/core';

export const octets = (bytes: number): string =>
  bytes >= 1024 * 1024 ? `${(bytes / 1024 / 1024).toFixed(1)} MiB` : bytes >= 1024 ? `${(bytes / 1024).toFixed(0)} KiB` : `${bytes} B`;

/** A moment in local time; the date only when it is not today. */
export function when(moment: string | null): string {
  if (moment === null) return '–';
  const date = new Date(moment);
  const time = date.toTimeString().slice(0, 8);
  return date.toDateString() === new Date().toDateString() ? time : `${moment.slice(0, 10)} ${time.slice(0, 5)}`;
}

export function since(moment: string | null, now: number): string {
  return moment === null ? '–' : duration(Math.max(0, now - Date.parse(moment)));
}

export function totalsOf(r: Pick<RolloutSummary, 'totals' | 'devices'>): string {
  const n = (k: keyof RolloutSummary['totals']): number => r.totals[k] ?? 0;
  const rest = (['failed', 'not-begun', 'skipped', 'withdrawn', 'recovered', 'under-way', 'waiting'] as const)
    .filter((k) => n(k) > 0)
    .map((k) => `${n(k)} ${k}`);
  return [`${n('verified')} of ${r.devices} verified`, ...rest].join(', ');
}

export { duration };
