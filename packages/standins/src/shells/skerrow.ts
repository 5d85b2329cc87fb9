import type { ShellStyle } from '../device.js';

/** The made-up command language of the made-up Skerrow switches, of which no family file ships. */
export const skerrowShell: ShellStyle = {
  ident: 'Skerrow_1',
  banner: 'This is a Skerrow.',
  prompt: (name) => `[${name}] `,
  pagePrompt: '(on: .)',
  pageKey: '.',
  pageLines: 40,
  factorySettings: (device) => ['call skerrow', `stand at ${device.options.address}`, 'gate all open'],
  async command(line, device, terminal) {
    const { options, persistent } = device;
    const words = line.split(/\s+/);
    const file = (name: string | undefined) => persistent.store.find((f) => f.name === name);
    const is = (text: string): boolean => line === text || line.startsWith(`${text} `);
    if (is('who')) {
      terminal.line(`called   ${device.hostname}`);
      terminal.line(`kind     ${options.model.model}, board ${options.model.hardwareRevision}`);
      terminal.line(`number   ${options.serial}`);
      terminal.line(`card     ${options.mac}`);
      terminal.line(`running  ${device.running.version}`);
      terminal.line(`begun    ${persistent.boots} times`);
      terminal.line(`room     ${device.freeBytes}`);
    } else if (is('lines')) for (const text of device.settings) terminal.line(text);
    else if (is('bring') && words.length === 5 && words[2] === 'from') {
      try {
        const bytes = await device.pull(words[3]!, Number(words[4]), words[1]!, () => undefined);
        if (bytes.length > device.freeBytes) return terminal.line(`cannot: ${bytes.length} octets are too many`);
        await device.write(words[1]!, bytes, () => undefined);
        terminal.line(`brought ${bytes.length} octets`);
      } catch (error) {
        terminal.line(`cannot: ${(error as Error).message}`);
      }
    } else if (is('weigh') && words[1]) {
      const found = file(words[1]);
      terminal.line(found ? `weighs ${found.bytes} mark ${found.sha256}` : `cannot: no ${words[1]} here`);
    } else if (is('next') && words[1]) {
      const found = file(words[1]);
      if (!found) terminal.line(`cannot: no ${words[1]} here`);
      else if (found.fault !== null) terminal.line(`cannot: ${words[1]} is ${found.fault}`);
      else {
        device.choose(found.name);
        terminal.line(`next is ${found.name}`);
      }
    } else if (is('next')) terminal.line(`next is ${persistent.nextBoot}, ${file(persistent.nextBoot)?.version ?? 'nothing'}`);
    else if (line === 'begin anew') {
      if ((await terminal.ask('Begin anew, truly? ')).trim() === 'truly') device.restart();
      else terminal.line('stays');
    } else if (line === 'part') terminal.hangUp();
    else terminal.line('cannot: the words are who, lines, bring FILE from HOST PORT, weigh FILE, next FILE, next, begin anew, part');
  },
};
