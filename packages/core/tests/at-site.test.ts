import { describe, expect, it } from 'vitest';
import { siteSteps, type AtSite } from '@barrow/core';

const now = new Date(2026, 10, 27, 2, 0).getTime();
const device: AtSite = {
  name: 'pier-sw-1',
  serial: 'X7',
  model: 'Tarnbrook TB-2424',
  cause: 'never-returned',
  writesUntil: null,
  now,
  startsWithin: 480_000,
  hangsOn: ['port 3 of pier-core'],
  poweredBy: ['outlet 2 of pier-strip'],
  console: null,
  alsoDark: [],
  backup: 'b1',
  firmware: '4.2.1',
  target: '4.3.0',
  tell: 'anna',
};
const steps = (over: Partial<AtSite>) => siteSteps({ ...device, ...over });
const said = (over: Partial<AtSite>): string[] => steps(over).map((s) => s.text);

describe('what a person does who stands before a device', () => {
  it('goes from what is cheap to what changes something, a spare last, and says whom to tell', () => {
    expect(said({})).toEqual([
      'Find it: pier-sw-1, a Tarnbrook TB-2424, serial X7 on its label; it hangs on port 3 of pier-core.',
      'Look at its lights. None at all: look at what powers it first, outlet 2 of pier-strip.',
      'Lights, and nothing answers: take its power away for ten seconds, give it again, and wait 8 min.',
      'Then its console: a serial cable to its front. Read what it says there while it starts, and write it down or photograph it.',
      'Nothing helps: put a spare in its place, a Tarnbrook TB-2424 of the same revision. Its settings are kept as backup b1; it ran 4.2.1 before, and was to run 4.3.0. Whoever sits at Barrow has the spare take its place: `barrow device swap pier-sw-1 --for SPARE`, or Swap on its page.',
      'Then tell anna what you saw and did: Barrow looks at it again by their word, and takes nothing for granted.',
    ]);
  });

  it('never has the power cut while it may be writing, and says until when', () => {
    const [first, ...rest] = steps({ writesUntil: now + 7 * 60_000 });
    expect(first).toEqual({
      text: 'Leave its power on until 02:07: until then it may still be writing its flash, whatever its lights say.',
      warn: true,
    });
    expect(rest.find((s) => s.text.includes('ten seconds'))!.text).toContain('after 02:07 take its power away');
    // What is over is no warning any more.
    expect(steps({ writesUntil: now - 1 }).some((s) => s.warn)).toBe(false);
  });

  it('warns of who goes dark with it', () => {
    expect(steps({ alsoDark: ['cam-1', 'phone-2'] }).filter((s) => s.warn)).toEqual([
      { text: 'With its power goes that of cam-1, phone-2.', warn: true },
    ]);
  });

  it.each(['locked-out', 'login-lost', 'host-key-changed'])(
    'has nobody cut the power of one that answers and lets nobody in (%s)',
    (cause) => {
      const all = steps({ cause, console: 'line 4 of pier-con' });
      expect(all[0]).toEqual({ text: 'Leave its power on: it runs, and a restart mends nothing of this.', warn: true });
      expect(all.some((s) => s.text.includes('ten seconds'))).toBe(false);
      expect(all.map((s) => s.text)).toContain(
        'Then its console, which is plugged into line 4 of pier-con: read what it says there while it starts.',
      );
    },
  );

  it('tells the next step of the cause where it runs and something else is otherwise', () => {
    const all = said({ cause: 'ports-down' });
    expect(all[0]).toContain('Leave its power on');
    expect(all.some((t) => t.startsWith('The detail names them. Look at what hangs on them'))).toBe(true);
    expect(all.some((t) => t.includes('spare'))).toBe(false);
  });

  it('says what nobody knows', () => {
    const all = said({ model: null, hangsOn: [], poweredBy: [], backup: null });
    expect(all[0]).toBe('Find it: pier-sw-1, serial X7 on its label.');
    expect(all[1]).toBe('Look at its lights. None at all: look at its plug and at the fuse; what powers it, nobody has told Barrow.');
    expect(all[4]).toContain('Of its settings nothing was saved in this rollout');
  });
});
