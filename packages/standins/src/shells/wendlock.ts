import type { ShellStyle } from '../device.js';

/** The made-up command language of the made-up Wendlock routers. */
export const wendlockShell: ShellStyle = {
  ident: 'Wendlock_1',
  banner: '*** Wendlock router ***',
  prompt: (name) => `<${name}> `,
  pagePrompt: '(more: n)',
  pageKey: 'n',
  pageLines: 20,
  factorySettings: (device) => ['name wendlock', `own-address ${device.options.address}`, 'way default via none'],
  async command(line, device, terminal) {
    const words = line.split(/\s+/);
    const { options, persistent } = device;
    const file = (name: string | undefined) => persistent.store.find((f) => f.name === name);
    switch (words[0]) {
      case 'about': {
        const { added, gone } = device.unsavedSettings;
        const facts = {
          type: options.model.model,
          board: options.model.hardwareRevision,
          number: options.serial,
          ethernet: options.mac,
          runs: device.running.version,
          loader: options.model.bootLoader,
          starts: persistent.boots,
          since: `${Math.floor(device.upSeconds)} s`,
          written: added.length + gone.length > 0 ? 'no' : 'yes',
          doing: device.busy ? 'pull' : 'nothing',
        };
        for (const [key, value] of Object.entries(facts)) terminal.line(`${key}=${value}`);
        return;
      }
      case 'flash':
        for (const f of persistent.store)
          terminal.line(
            `${f.name.padEnd(28)} ${String(f.bytes).padStart(10)}${f === device.running ? '  in use' : ''}${persistent.nextBoot === f.name ? '  at start' : ''}`,
          );
        return terminal.line(`free ${device.freeBytes}`);
      case 'settings':
        if (words[1] === 'unwritten') {
          const { added, gone } = device.unsavedSettings;
          for (const text of added) terminal.line(`> ${text}`);
          for (const text of gone) terminal.line(`< ${text}`);
        } else if (words[1] === 'write') {
          await device.keepSettings();
          terminal.line('written.');
        } else for (const text of [`# up ${Math.floor(device.upSeconds)}`, ...device.settings]) terminal.line(text);
        return;
      case 'pull': {
        const [, name, host, port] = words;
        if (!name || !host || !port) return terminal.line('error: pull NAME HOST PORT');
        if (device.busy) return terminal.line('error: a pull is going on');
        device.busy = true;
        try {
          let told = -1;
          const bytes = await device.pull(host, Number(port), name, (p) => {
            if (p >= told + 5 || p === 100) terminal.line(`${(told = p)} %`);
          });
          if (bytes.length > device.freeBytes) return terminal.line(`error: flash full, ${device.freeBytes} free`);
          await device.write(name, bytes, () => undefined);
          terminal.line(`stored ${bytes.length} octets`);
        } catch (error) {
          terminal.line(`error: pull failed: ${(error as Error).message}`);
        } finally {
          device.busy = false;
        }
        return;
      }
      case 'sum': {
        await device.wait(2);
        const found = file(words[1]);
        return terminal.line(found ? `sha256 ${found.sha256} ${found.fault ? `bad (${found.fault})` : 'good'}` : 'error: no such file');
      }
      case 'start-with': {
        const found = file(words[1]);
        await device.wait(1);
        if (!found) return terminal.line('error: no such file');
        if (found.fault !== null) return terminal.line(`error: ${found.name} cannot be started: ${found.fault}`);
        if (device.faults.has('wrong-model')) return terminal.line(`error: ${found.name} is not for this board`);
        device.choose(found.name);
        return terminal.line(`will start with ${found.name}`);
      }
      case 'at-start': {
        const found = file(persistent.nextBoot);
        return terminal.line(`${persistent.nextBoot} (${found?.version ?? 'missing'})`);
      }
      case 'cycle':
        if ((await terminal.ask('All lines go down. Type GO: ')).trim() === 'GO') return device.restart();
        return terminal.line('not done');
      case 'bye':
        return terminal.hangUp();
      default:
        return terminal.line('error: not a command. Try about, flash, settings, pull, sum, start-with, at-start, cycle, bye');
    }
  },
};
