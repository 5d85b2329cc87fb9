import { CauseError } from '@barrow/core';
import { hideInLines, loadFamilies } from '@barrow/families';
import { describe, expect, it } from 'vitest';
import { hideInDetail, hideSecrets, hideWords, secretLines, withoutSecrets } from '../src/touch/secrets.js';

const family = loadFamilies().get('tarnbrook-access')!;

describe('what is secret', () => {
  it.each([
    ['in a sentence', 'to "tell settings" the device said: watchword tide-quay'],
    ['in words that are written out', 'nothing came; last: "name sw-1\\r\\nwatchword tide-quay\\r\\nport 1"'],
    ['in lines', 'a\nwatchword tide-quay\nb'],
    ['in a difference', '-watchword tide-quay'],
  ])('is hidden %s', (_, detail) => {
    const clean = hideInDetail(detail, family, []);
    expect(clean).not.toContain('tide-quay');
    expect(clean).toContain('‹hidden›');
  });
  it('leaves the rest as it was', () => {
    expect(hideInDetail('last: "name sw-1\\r\\nport 1"', family, [])).toBe('last: "name sw-1\\r\\nport 1"');
    expect(hideSecrets('name a\n-watchword x1\n port 2', family)).toBe('name a\n-watchword ‹hidden›\n port 2');
  });
  it('is hidden by its very letters, wherever it stands; what is too short to be told from words stays', () => {
    expect(hideWords('echo: spring-tide, again spring-tide', ['spring-tide', 'an'])).toBe('echo: ‹hidden›, again ‹hidden›');
    const error = withoutSecrets(new CauseError('unexpected-answer', 'the device said: spring-tide?'), null, ['spring-tide']);
    expect(error).toMatchObject({ code: 'unexpected-answer', detail: 'the device said: ‹hidden›?' });
  });
  it.each([
    ['a space and a carriage return', 'spring \r-tide'],
    ['a line end', 'spring\r\n-tide'],
    ['a sequence that moves the cursor', 'spring\u001b[K\u001b[1A-tide'],
  ])('is hidden where a terminal wraps its echo by %s', (_, echo) => {
    const clean = hideWords(`answer: ${echo}\r\nnext`, ['spring-tide']);
    expect(clean).toBe('answer: ‹hidden›\r\nnext');
  });
  it('is hidden by our own rules, whatever a file calls secret', () => {
    for (const line of ['watchword tide-quay', 'snmp community: tide-quay', '  PASSWORD="tide-quay"'])
      expect(hideInLines(line, secretLines), line).not.toContain('tide-quay');
    expect(hideInLines('ports 24', secretLines)).toBe('ports 24');
  });
  it('keeps what is no cause as it is', () => {
    const error = new Error('x');
    expect(withoutSecrets(error, family, ['x'])).toBe(error);
  });
});
