import { expect, it } from 'vitest';
import { notAsVerified } from '@barrow/core';

const of = {
  name: 'quay-sw-1',
  model: 'TB-2424',
  wanted: '4.3.0',
  runs: null,
  decidedBy: null,
  cause: 'ports-down',
  detail: 'port 4 was up',
} as const;

it('says of who fell back what it runs, and by whom that may be', () => {
  const runs = { ...of, runs: '4.2.1', cause: 'old-version' } as const;
  expect(notAsVerified({ ...runs, decidedBy: 'the harbour office' })).toEqual({
    model: 'TB-2424',
    measure: 'the look after the soak',
    verdict: 'worse',
    text: 'quay-sw-1 runs 4.2.1 and not 4.3.0: reverted by the harbour office',
    series: [],
  });
  expect(notAsVerified(runs).text).toMatch(
    /: reverted by itself, or by somebody of whom nobody has told \(`barrow device set --decided-by`\)$/,
  );
});

it('says of who is otherwise, or cannot be looked at, what is the matter', () => {
  expect(notAsVerified(of).text).toBe(
    'quay-sw-1 is not as it was when it was verified: Ports that were up before are down since the upgrade (port 4 was up)',
  );
  const asks = { ...of, cause: 'not-answered', detail: 'nobody is here to be asked: its word' } as const;
  expect(notAsVerified(asks)).toMatchObject({
    verdict: 'unknown',
    text: 'quay-sw-1 was not looked at once more: nobody is here to be asked: its word',
  });
  expect(notAsVerified({ ...of, cause: 'unreachable', detail: 'nothing answers' }).text).toContain('(nothing answers)');
});
