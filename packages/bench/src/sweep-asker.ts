import { snmpQuestion, sweep } from '@barrow/wire';

/** Sweeps addresses of a /16 of loopback in a process of its own, so that its memory is its own too, and tells what came of it. */
const [, , rateText = '10000', triesText = '3', addressesText = '65536', portText = '16161'] = process.argv;
const addresses = Array.from({ length: Number(addressesText) }, (_, i) => `127.150.${i >> 8}.${i & 255}`);
const found = new Set<string>();
const began = performance.now();
const result = await sweep({
  addresses,
  questions: [snmpQuestion(Number(portText), 'ferry-read', ['1.3.6.1.2.1.1.1.0', '1.3.6.1.2.1.1.2.0'])],
  packetsPerSecond: Number(rateText),
  tries: Number(triesText),
  waitMs: 400,
  onAnswer: ({ address }) => found.add(address),
});
process.send!({ ms: performance.now() - began, found: found.size, sent: result.sent, maxRss: process.resourceUsage().maxRSS * 1024 });
process.disconnect();
