import { describe, expect, it } from 'vitest';
import { fitWidths, Mark, table, type Io } from '../src/output.js';

const io = (width: number, terminal = true): Io => ({ out: () => undefined, err: () => undefined, terminal, width });
const rows = [
  ['quay-sw-1', 'TB-2424', 'a long reason that has many words and would never fit into a line of a terminal', 7],
  ['quay-rt-1', 'WR-110', 'short', 12],
] as const;
const head = ['DEVICE', 'MODEL', 'WHY', 'N'];

describe('a table', () => {
  it('fits the terminal: long text wraps, names and numbers keep their width', () => {
    const text = table(io(60), head, rows, [3]);
    // eslint-disable-next-line no-control-regex -- colours take no room
    const lines = text.split('\n').map((l) => l.replace(/\u001b\[\d+m/g, ''));
    expect(Math.max(...lines.map((l) => l.length))).toBeLessThanOrEqual(60);
    expect(lines.join(' ').replace(/\s+/g, ' ')).toContain('terminal');
    expect(lines.some((l) => l.startsWith('quay-sw-1 '))).toBe(true);
    expect(lines.length).toBeGreaterThan(3);
  });
  it('is as wide as it is where nobody looks at it, and where it fits', () => {
    expect(table(io(20, false), head, rows).split('\n').length).toBe(3);
    expect(fitWidths(['A', 'B'], [['x', 'y']], [], 80)).toBeNull();
  });
  it('takes from the widest first, and from none more than it can bear', () => {
    expect(fitWidths(['A', 'B', 'C'], [['a', 'b'.repeat(40), 'c'.repeat(20)]], [], 50)).toEqual([1, 25, 20]);
    expect(fitWidths(['A', 'B', 'C'], [['a', 'b'.repeat(40), 'c'.repeat(40)]], [], 10)).toEqual([1, 10, 10]);
    expect(fitWidths(['A', 'N'], [['a'.repeat(50), '1'.repeat(30)]], [1], 40)).toEqual([50, 30]);
  });
  it('does not count colours as width', () => {
    const coloured = new Mark(`\u001b[32m${'x'.repeat(30)}\u001b[39m`).text;
    expect(fitWidths(['A'], [[coloured]], [], 30)).toBeNull();
  });
});
