import { describe, expect, it } from 'vitest';
import { learntOf, stillArmed } from '../src/discovery/placing.js';

const armed = { version: '4.1.0', at: 1000, by: 'a rollout' };

describe('a device that takes another version at its next restart', () => {
  it('is armed until it restarted', () => {
    expect(stillArmed({ armed }, 500, '4.0.3')).toEqual(armed);
    expect(stillArmed({ armed }, null, '4.0.3')).toEqual(armed);
    expect(stillArmed({ armed }, 1500, '4.0.3')).toBeNull();
  });
  it('is armed no more once it runs that version', () => expect(stillArmed({ armed }, null, '4.1.0')).toBeNull());
  it('stays armed with what somebody armed it with while a discovery ran', () => {
    const row = (one: object): never => ({ byHand: [], lastSeen: 1, armed, ...one }) as never;
    expect(learntOf(row({}), row({ armed: null }), row({}))).toEqual({ armed: null });
    expect(learntOf(row({}), row({ armed: null }), row({ armed: { ...armed, at: 2000 } }))).toEqual({});
  });
});
