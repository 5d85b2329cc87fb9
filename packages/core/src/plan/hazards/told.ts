import { someNames, type HazardLook, type RunFacts } from './hazard.js';

/** What planning found in the notes of its images, in its family, and in the store. */
const told =
  (words: (facts: RunFacts) => string | null): HazardLook =>
  (run, { runs }) => {
    const facts = runs.get(run.device);
    const said = facts ? words(facts) : null;
    return said === null ? null : { words: said };
  };

export const resets = told(({ resets: list }) => (list.length === 0 ? null : `${[...new Set(list)].join(' and ')} are reset`));
export const drops = told(({ drops: list }) => (list.length === 0 ? null : `afterwards there is no ${[...new Set(list)].join(', nor ')}`));
export const oneWay = told(({ oneWay: list }) => (list.length === 0 ? null : list.join('; ')));
export const noBackup = told(({ backsUp }) => (backsUp ? null : 'and so they are not compared after'));
export const leftBehind = told(({ leavesBehind }) =>
  leavesBehind.length === 0 ? null : `serves ${someNames(leavesBehind)} no more: plan them along, before it`,
);
export const restartLoses = told(({ loses }) => (loses?.length ? `loses ${loses.join(', ')}` : null));
export const backupLacks = told(({ backupLacks: lacks }) => (lacks?.length ? `its backup lacks ${lacks.join(', ')}` : null));
export const notesUnread = told(({ unread }) =>
  unread?.length ? `${unread.join(', ')}: \`barrow image read ${unread[0]}\` shows them and keeps that you have` : null,
);
export const digestUntold = told(({ uncompared }) =>
  uncompared?.length
    ? `${uncompared.join(', ')}: nothing published was compared; \`barrow image add\` it with --digest or --checksums`
    : null,
);
export const takenAlong = told(({ takesAlong }) =>
  takesAlong?.length ? `brings ${someNames(takesAlong)} to its own version by itself, whatever is planned for them` : null,
);
export const mismatch = told(({ mismatches }) => (mismatches?.length ? mismatches.join('; ') : null));
