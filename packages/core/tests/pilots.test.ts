import { describe, expect, it } from 'vitest';
import { divide, pilotsOf, type PilotCandidate } from '../src/index.js';

const at = (device: string, model: string, site: string, isRemote = false): PilotCandidate => ({
  device,
  name: device,
  family: 'f',
  model,
  site,
  isRemote,
});

describe('pilot devices', () => {
  it('are one of each family and model', () => {
    expect(pilotsOf([at('a1', 'A', 's'), at('a2', 'A', 's'), at('b1', 'B', 's'), at('b2', 'B', 's')])).toEqual(['a1', 'b1']);
  });
  it('are not the only one of a site where another exists', () => {
    expect(pilotsOf([at('a1', 'A', 'alone'), at('a2', 'A', 's'), at('a3', 'A', 's')])).toEqual(['a2']);
    expect(pilotsOf([at('a1', 'A', 'one'), at('a2', 'A', 'two')])).toEqual(['a1']);
  });
  it('are reached by wire before they are reached by radio', () => {
    expect(pilotsOf([at('a1', 'A', 'vessel', true), at('a2', 'A', 'vessel', true), at('a3', 'A', 's'), at('a4', 'A', 's')])).toEqual([
      'a3',
    ]);
    // A radio link is better than the only one of a site.
    expect(pilotsOf([at('a1', 'A', 'alone'), at('a2', 'A', 'vessel', true), at('a3', 'A', 'vessel', true)])).toEqual(['a2']);
  });
  it('make a wave of their own, with what they need', () => {
    const devices = ['ap', 'boss', 'other'].map((device) => ({
      ...{ device, name: device, site: 's', family: 'f' },
      needs: device === 'ap' ? [{ device: 'boss' }] : [],
    }));
    const { waves } = divide(devices, { first: ['ap'] });
    expect(waves.map((w) => [w.name, w.members.map((m) => m.device)])).toEqual([
      ['first', ['ap', 'boss']],
      ['rest', ['other']],
    ]);
  });
});
