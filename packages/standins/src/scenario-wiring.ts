import type { Cable } from './wiring.js';

/** `sw:4 > phone:1 6W`: port 4 of the first to port 1 of the second, which it feeds with 6 watts; `=1` bundles, `~` is a radio link. */
function cables(site: string, text: string): Cable[] {
  const named = (name: string): string => (name.includes('/') ? name.replace('/', '-') : `${site}-${name}`);
  return text
    .trim()
    .split('\n')
    .map((line) => {
      const match = /^(\S+):(\d+) ([>~]) (\S+):(\d+)(?: (\d+)W)?(?: =(\d+))?$/.exec(line.trim());
      if (!match) throw new Error(`not a cable: ${line}`);
      const [, a, aPort, how, b, bPort, watts, bundle] = match;
      return {
        a: named(a!),
        aPort: Number(aPort),
        b: named(b!),
        bPort: Number(bPort),
        ...(watts ? { watts: Number(watts) } : {}),
        ...(bundle ? { bundle: Number(bundle) } : {}),
        ...(how === '~' ? { radio: true } : {}),
      };
    });
}

/** Every cable of Grey Heron Ferries. */
export const scenarioCables: readonly Cable[] = [
  ...cables(
    'quay',
    `rt-1:1 > core-1:10
     rt-1:2 > core-2:10
     core-1:11 > core-2:11 =1
     core-1:12 > core-2:12 =1
     core-1:1 > sw-1:1
     core-2:1 > sw-1:2
     core-1:2 > sw-2:1
     core-2:2 > sw-2:2
     core-1:3 > sw-3:1
     core-2:3 > sw-4:1
     core-1:5 > wlc-1:1
     core-2:5 > rec-1:1
     core-1:6 > con-1:1
     core-1:7 > pdu-1:1
     sw-1:4 > phone-1:1 6W
     sw-1:8 > phone-2:1 6W
     sw-1:12 > phone-3:1 6W
     sw-1:16 > ap-1:1 12W
     sw-1:20 > base-1:1 6W
     sw-1:24 > cam-1:1 9W
     sw-2:4 > phone-4:1 6W
     sw-2:8 > phone-5:1 6W
     sw-2:12 > phone-6:1 6W
     sw-2:16 > ap-2:1 12W
     sw-2:20 > ap-3:1 12W
     sw-2:24 > cam-2:1 9W
     sw-3:4 > ap-4:1 12W
     sw-3:8 > cam-3:1 9W`,
  ),
  ...cables(
    'eelgate',
    `rt-1:1 > sw-1:1
     sw-1:2 > sw-2:1
     sw-1:3 > sw-3:1
     sw-1:4 > phone-1:1 6W
     sw-1:8 > phone-2:1 6W
     sw-1:12 > phone-3:1 6W
     sw-1:16 > ap-1:1 12W
     sw-1:20 > ap-2:1 12W
     sw-2:4 > cam-1:1 9W
     sw-2:8 > phone-4:1 6W
     sw-3:4 > cam-2:1 9W`,
  ),
  ...cables(
    'gannet',
    `rt-1:1 > stk-1:1
     stk-1:2 > sw-1:1
     stk-1:10 > sw-2:1
     stk-1:4 > phone-1:1 6W
     stk-1:12 > phone-2:1 6W
     stk-1:20 > ap-1:1 12W
     sw-1:4 > phone-3:1 6W
     sw-1:8 > ap-2:1 12W
     sw-2:4 > cam-1:1 9W
     sw-2:5 > odd-1:1`,
  ),
  ...cables(
    'dunmoor',
    `rt-1:1 > sw-1:1
     sw-1:4 > ap-1:1 12W
     sw-1:5 > pdu-1:1
     sw-1:6 > locked-1:1
     sw-1:8 > phone-1:1 6W
     sw-1:12 > phone-2:1 6W
     sw-1:16 > cam-1:1 9W
     sw-1:20 > cam-2:1 9W`,
  ),
  ...cables(
    'sandpiper',
    `rt-1:1 > sw-1:1
     sw-1:4 > ap-1:1 12W
     sw-1:5 > cam-1:1
     sw-1:8 > phone-1:1 6W`,
  ),
  ...cables(
    'curlew',
    `rt-1:1 > sw-1:1
     sw-1:4 > ap-1:1 12W
     sw-1:5 > odd-2:1
     sw-1:8 > phone-1:1 6W`,
  ),
  ...cables(
    '',
    `quay/rt-1:3 > dunmoor/rt-1:2
     quay/rt-1:4 > eelgate/rt-1:2
     dunmoor/rt-1:3 > gannet/rt-1:2
     dunmoor/rt-1:4 ~ sandpiper/rt-1:2
     eelgate/rt-1:3 ~ curlew/rt-1:2`,
  ),
];

/** Whose console is plugged into which line of a console server. */
export const scenarioConsoles: Readonly<Record<string, readonly string[]>> = {
  'quay-con-1': ['quay-rt-1', 'quay-sw-1', 'quay-sw-2', 'quay-sw-3', 'quay-sw-4'],
};

/** Which power strip feeds what, by outlet; its owner wrote the names on the strip's page. */
export const scenarioOutlets: Readonly<Record<string, readonly string[]>> = {
  'quay-pdu-1': ['quay-rt-1', 'quay-core-1', 'quay-core-2', 'quay-wlc-1', 'quay-rec-1', 'quay-con-1', '', ''],
  'dunmoor-pdu-1': ['dunmoor-rt-1', 'dunmoor-sw-1', '', ''],
};
