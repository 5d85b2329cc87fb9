import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { reportSchema, type Report } from '@barrow/core';
import { barrow, folder, type Ran } from './support/service.js';

/** The night of the demo, whole: what may be recovered is, what may not is told, and the report says all of it. */
describe('a Friday night', () => {
  const dir = folder();
  const demo = join(dir.path, 'demo');
  let night: Ran;
  let report: Report;
  const outcomes = (of: string): string[] => report.runs.filter((r) => r.outcome === of).map((r) => r.name);

  beforeAll(async () => {
    const anywhere = [
      '--listen',
      '127.0.0.1:0',
      '--tftp-listen',
      '127.0.0.1:0',
      '--http-store-listen',
      '127.0.0.1:0',
      '--control-port',
      '0',
    ];
    night = await barrow(['demo', '--friday', '--folder', demo, '--scale', '100', '--log', 'error', ...anywhere]);
    report = reportSchema.parse(JSON.parse(readFileSync(join(demo, 'friday', 'report.json'), 'utf8')));
  });
  afterAll(() => dir.remove());

  it('ends as it has to, says so, and takes what it was rehearsed to take with what went wrong', () => {
    expect(night.code, `${night.out.slice(-3000)}${night.err}`).toBe(0);
    expect(night.out).toContain('In the morning: 48 of 52 verified, 2 failed, 1 not-begun, 1 recovered.');
    expect(night.out).toMatch(/It was rehearsed to take .*, with what went wrong .*, and took .*: [\d.]+ % (more|less) than that\./);
    expect(outcomes('failed')).toEqual(['dunmoor-sw-1', 'quay-cam-2']);
    expect(outcomes('recovered')).toEqual(['gannet-sw-1']);
    expect(outcomes('not-begun')).toEqual(['eelgate-phone-2']);
  });

  it('is in the report: what is left to do, plan beside fact, who accepted what, and what was seen in the soaks', () => {
    expect(report.beside!.waves.map((w) => w.wave)).toEqual(['trial', 'to 20 %', 'to 50 %', 'to 75 %', 'rest']);
    expect(report.beside!.waves.every((w) => w.tookMs !== null && w.rehearsedMs > 0)).toBe(true);
    // The failures that happened make it longer, and the prediction with them knows that.
    expect(report.beside!.withFailuresMs).toBeGreaterThan(report.beside!.rehearsedMs);
    expect(report.beside!.waves.every((w) => w.withFailuresMs !== undefined)).toBe(true);
    expect(report.accepted!.map((a) => [a.hazard, a.by])).toContainEqual(['drops', 'first admin']);
    expect(report.soaks!.map((s) => s.wave)).toEqual(['trial', 'to 20 %', 'to 50 %', 'to 75 %']);
    // Phones and access points cannot be asked how they fare: that is said, and not taken for good news.
    expect(report.soaks![1]!.findings.join('\n')).toMatch(/no soak samples of \d D40: they cannot be read by SNMP/);
    const phone = report.runs.find((r) => r.name === 'quay-phone-1')!;
    expect(phone).toMatchObject({ outcome: 'verified', after: '3.0.2' });
    const page = readFileSync(join(demo, 'friday', 'report.html'), 'utf8');
    for (const words of ['What is left to do', 'Predicted and actual time', '<h2>Accepted risks</h2>', '<h2>Soak</h2>'])
      expect(page).toContain(words);
    // Each that did not come to its target is told with what to do, and no other is.
    const [left, tried] = ['What is left to do', 'What failed, and what was tried'].map((heading) => {
      const from = page.indexOf(`<h2>${heading}`);
      expect(from, heading).toBeGreaterThan(0);
      return page.slice(from, page.indexOf('<h2>', from + 1));
    }) as [string, string];
    for (const name of ['dunmoor-sw-1', 'quay-cam-2', 'gannet-sw-1', 'eelgate-phone-2']) expect(left).toContain(name);
    expect(left).not.toContain('quay-phone-1');
    // Who came to its target by a rung has nothing left to do, and what was tried for it is told.
    expect(tried).toContain('quay-phone-1');
    expect(tried).toMatch(/started anew by cutting its power[^]*it worked/);
    expect(readFileSync(join(demo, 'friday', 'quay-cam-2.html'), 'utf8')).toContain('What to do, in this order');
  });
});
