// Writes docs/when-nothing-moves.md from the one table of transfer faults: node scripts/faults-page.mjs (after a build).
import { writeFileSync } from 'node:fs';
import { cause, transferFaults } from '@barrow/core';

const row = (f) => `| \`${f.name}\` | ${f.by.join(', ').toUpperCase()} | ${f.what} | ${f.sign} | \`${f.cause}\` | ${cause(f.cause).next} |`;
writeFileSync(
  new URL('../docs/when-nothing-moves.md', import.meta.url),
  `# When nothing moves

A device was told to fetch an image, and on the screen nothing happens. Barrow watches every transfer that it expects and works down what a good technician
would look at, from the store outward to the device. What it finds first is the cause; everything that it found stands in the story of the
transfer (\`barrow transfer show ID\`, or the page of the transfer), with what was seen.

1. **The store.** Does it listen? At the address that the device was told? \`barrow staging check\` asks it through every address.
2. **The device.** Does it answer anything at all? If it does and its family knows how, it pings the store itself: a ping that fails is a filter or a route,
   a ping that arrives leaves the TFTP port, or what the device was told.
3. **The request.** Did it come at all, and with the login that the HTTP store asks for? Did it come from another address? A device has several; when the name that was asked for is the very one that is awaited, say
   \`barrow transfer claim TRANSFER DEVICE\`, and it may fetch from there. Was it for another name? The nearest staged names are told.
4. **The answers.** TFTP answers from a new port (RFC 1350 §4). A request that arrives, and answers of which none is acknowledged, are a
   firewall that knows of port 69 only. Options acknowledged, and the first large block never: a link on the way that drops large packets.
5. **The way.** The same block again and again: loss, or a device that hangs; tries that stop at changing blocks are the line, always at the same one the device.
6. **The device, again.** It has everything: what does it say, how many octets does it hold, and what is their digest?

While a device fetches over a shared, slow link, waiting for its turn is not silence, and is not counted as such. A device that erases its flash in the middle may say
nothing for a while: only when it stays silent for longer than that does a transfer count as stuck, and it is told again when it goes on.

## Faults and the cause that is named first

Each of these is switched on in the tests, which read this table (\`packages/core/src/transfers/faults.ts\`; this page is made from it by
\`node scripts/faults-page.mjs\`). Most can be switched on in the demo as well: see the README.

| fault | tried by | what is wrong | what gives it away | cause | what to do |
|---|---|---|---|---|---|
${transferFaults.map(row).join('\n')}

## The packets

What is sent by HTTP counts as sent when this machine's kernel has taken it: how much of it arrived, HTTP does not tell, and Barrow does not say it.

The first twenty and the last two hundred packets of every TFTP transfer are kept, without a capture program: with the time, the direction and what they say, and enough of
each to see its options or block number, never enough to rebuild a file. \`barrow transfer show ID --pcapng FILE\` writes them as pcapng, for a viewer of your own;
\`--json\` has them decoded.
`,
);
