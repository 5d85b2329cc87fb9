import { describe, expect, it } from 'vitest';
import { WireError } from '@barrow/wire';
import { patiently } from '../src/discovery/patience.js';

const busy = (): boolean => true;
const idle = (): boolean => false;
/** Answers only to who waits as long as that. */
const slow = (needs: number) => {
  const asked: number[] = [];
  const ask = (limit: number): Promise<string> => {
    asked.push(limit);
    return limit >= needs ? Promise.resolve('an answer') : Promise.reject(new WireError('timeout', `nothing in ${limit} ms`));
  };
  return { asked, ask };
};

describe('patience', () => {
  it('asks once more, four times as long, when silence may be our own', async () => {
    const { asked, ask } = slow(400);
    expect(await patiently(100, ask, busy)).toBe('an answer');
    expect(asked).toEqual([100, 400]);
  });

  it('believes silence when nobody was late', async () => {
    const { asked, ask } = slow(400);
    await expect(patiently(100, ask, idle)).rejects.toMatchObject({ fault: 'timeout' });
    expect(asked).toEqual([100]);
  });

  it('does not ask for ever', async () => {
    const { asked, ask } = slow(1000);
    await expect(patiently(100, ask, busy)).rejects.toMatchObject({ fault: 'timeout' });
    expect(asked).toEqual([100, 400]);
  });

  it('does not ask again who said no, or when something else broke', async () => {
    for (const error of [new WireError('refused', 'no'), new Error('a mistake of ours')]) {
      let asked = 0;
      const ask = (): Promise<never> => {
        asked++;
        return Promise.reject(error);
      };
      await expect(patiently(100, ask, busy)).rejects.toBe(error);
      expect(asked).toBe(1);
    }
  });
});
