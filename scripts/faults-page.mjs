// Writes docs/when-nothing-moves.md from the one table of transfer faults: node scripts/faults-page.mjs (after a build).
import { writeFileSync } from 'node:fs';
import { cause, transferFaults } from '@barrow/core';

const row = (f) => `| \`${f.name}\` | ${f.by.join(', ').toUpperCase()} | ${f.what} | ${f.sign} | \`${f.cause}\` | ${cause(f.cause).next} |`;
writeFileSync(
  new URL('../docs/when-nothing-moves.md', import.meta.url),
  `# When nothing moves

A device is told to fetch an image, and nothing arrives. Barrow watches every transfer that it expects and looks for the reason in
the order below, from the store to the device. The first fault found is the cause. \`barrow transfer show ID\` and the page of the
transfer show everything that was found.

1. **The store.** Does it listen, at the address that the device uses? \`barrow staging check\` asks the store through each address.
2. **The device.** Does it answer? If its family can, the device pings the store. A ping that fails means a filter or a route. A ping
   that arrives leaves the TFTP port, or the command that the device got.
3. **The request.** Did it arrive, and with the login that the HTTP store needs? From another address of the device? If the name is the
   expected one, \`barrow transfer claim TRANSFER DEVICE\` allows that address. For another name, Barrow shows the nearest staged names.
4. **The answers.** TFTP answers from a new port (RFC 1350 §4). If the device acknowledges no answer, a firewall lets only port 69
   through. If it acknowledges the options but not the first large block, a link drops large packets.
5. **The line.** The same block is sent again and again: loss, or a device that hangs. Tries that stop at different blocks are the line;
   tries that stop at the same block are the device.
6. **The device, again.** It has the whole file: what does it say, how many bytes does it hold, and what is their digest?

A device that waits for its turn on a shared slow link is not stuck. Neither is a device that erases its flash: a transfer counts as
stuck only after a longer silence, and Barrow reports when it continues.

## See one in the demo

This needs \`npm run demo -- --fresh\` and \`export BARROW_DATA=.barrow-demo/data\`. The device asks for the name in capital letters.

\`\`\`sh
curl -s -X PUT http://127.0.0.1:8471/quay-sw-1/asks-in-capitals
npx barrow upgrade quay-sw-1                       # exit 1: the device asks for another name
npx barrow transfer list
\`\`\`

\`\`\`text
quay-sw-1
\`\`\`

Without the fault the upgrade works.

\`\`\`sh
curl -s -X DELETE http://127.0.0.1:8471/quay-sw-1/asks-in-capitals
npx barrow upgrade quay-sw-1
\`\`\`

\`\`\`text
1 of 1 verified
\`\`\`

## Faults and the cause that is named first

The tests switch on each of these faults. They read the same table (\`packages/core/src/transfers/faults.ts\`), from which
\`node scripts/faults-page.mjs\` makes this page. Most can be switched on [in the demo](demo-faults.md) as well.

| fault | tried by | what is wrong | what gives it away | cause | what to do |
|---|---|---|---|---|---|
${transferFaults.map(row).join('\n')}

## The packets

Barrow keeps the first 20 and the last 200 packets of every TFTP transfer, without a capture program: time, direction, and the first
bytes with the options or the block number. That is never enough to rebuild a file. \`barrow transfer show ID --pcapng FILE\` writes
them as pcapng; \`--json\` shows them decoded. Of HTTP, Barrow knows only what the kernel of this machine took, not what arrived.

![A failed transfer, and why](screenshots/transfer.png)
![All transfers](screenshots/transfers.png)
![A transfer in the terminal](screenshots/terminal-transfer.png)
`,
);
