import { clockOff, inARow } from '../../records/told.js';
import { octets } from '../../text/octets.js';
import { downMs, someNames, type DeviceFacts, type HazardLook } from './hazard.js';

const day = 86_400_000;
/** A licence that ends within this is told of. */
const soonMs = 30 * day;

/** What is told of a device, or what it showed. */
const known =
  (words: (of: DeviceFacts, now: number) => string | null): HazardLook =>
  ({ device }, { devices, now }) => {
    const of = devices.get(device);
    const said = of ? words(of, now) : null;
    return said === null ? null : { words: said };
  };

/** Somebody else says what it is to run. */
export const decidedElsewhere = known(({ told }) => (told?.decidedBy ? `ask ${told.decidedBy}` : null));

/** After its restart it may not do what it did. */
export const licence: HazardLook = ({ device }, { devices, runs, now }) => {
  const until = devices.get(device)?.told?.licenceUntil;
  const ends = until === undefined ? Infinity : Date.parse(`${until}T23:59:59Z`);
  const words = [
    ...(ends - now > soonMs ? [] : [ends < now ? `it ran out on ${until}` : `it ends on ${until}`]),
    ...(runs.get(device)?.licences ?? []),
  ];
  return words.length === 0 ? null : { words: words.join('; ') };
};

/** What is old and cold may not start again. */
export const singleSupply = known(({ told, shows }) =>
  (told?.supplies ?? shows?.supplies) === 1 ? 'and nothing takes over when that does not start again' : null,
);

/** What is dated or begins at an hour goes wrong. */
export const clockWrong = known(({ shows }) => (shows?.clockAheadMs === undefined ? null : clockOff(shows.clockAheadMs)));

/** Nobody can say whether somebody is left without radio while it is down. */
export const radioUnknown = known(({ kind, told, shows }) =>
  kind === 'access-point' && told?.radio === undefined && shows?.radio === undefined
    ? '`barrow device set NAME --radio OTHER,…` tells who does, or `--radio none`'
    : null,
);

/** As its device said last, its image may not fit. */
export const littleRoom: HazardLook = ({ device }, { devices, runs }) => {
  const free = devices.get(device)?.shows?.freeBytes;
  const needs = runs.get(device)?.needsBytes;
  return free === undefined || needs === undefined || free >= needs
    ? null
    : { words: `${octets(free)} were free when it was asked last, ${octets(needs)} are needed` };
};

/** Who needs it to come back is not restarted meanwhile. */
export const servesOthers: HazardLook = (run, facts) => {
  const what = facts.devices.get(run.device)?.told?.serves;
  if (what === undefined) return null;
  const others = [...facts.devices.values()].filter((d) => d.givenBy?.some((g) => g.from === run.device)).map((d) => d.name);
  if (others.length === 0) return null;
  return {
    words: `${inARow(what)} for ${someNames(others.sort())}: none of them goes down meanwhile`,
    forMs: downMs(run, facts),
  };
};

/** What checks its logins is gone while it is. */
export const loginsBehind: HazardLook = (run, facts) => {
  const behind = (facts.devices.get(run.device)?.givenBy ?? [])
    .filter(({ from, what }) => what.includes('logins') && facts.under.get(from)?.includes(run.device))
    .map(({ from }) => facts.devices.get(from)?.name ?? from);
  return behind.length === 0 ? null : { words: someNames(behind.sort()), forMs: downMs(run, facts) };
};

/** Of its site nobody has said whether a lift, an alarm or a door hangs on it. */
export const neverAsked: HazardLook = ({ site }, { asked }) =>
  asked === undefined || asked.has(site)
    ? null
    : { words: `at ${site}: ask there, then \`barrow site set ${site} --asked "who said what"\`` };
