import type { ShellStyle, StandIn } from '../device.js';
import { sendSettings } from '../net/send-settings.js';

/** The other slot of a two-slot device: the one that it does not run from. */
function spareOf(device: StandIn): string {
  return device.running.name === '1' ? '2' : '1';
}

function factory(device: StandIn): string[] {
  const { ports } = device.options.model;
  return [
    'name tarnbrook',
    'place unset',
    `address ${device.options.address}`,
    'clock utc',
    ...Array.from({ length: ports }, (_, i) => `port ${i + 1} lan 1`),
    'end',
  ];
}

/** What it may do besides, for as long as its papers say. */
const rights = ['many-lans', 'rings'];

/** Settings that are being said to a device. */
const taken = new WeakMap<StandIn, string[]>();

/** The made-up command language of the made-up Tarnbrook switches. */
export const tarnbrookShell: ShellStyle = {
  ident: 'Tarnbrook_1',
  banner: 'Tarnbrook switch. Say help for the words.',
  prompt: (name) => `${name} :: `,
  pagePrompt: '-- space goes on --',
  pageKey: ' ',
  pageLines: 16,
  factorySettings: factory,
  async command(line, device, terminal) {
    const words = line.split(/\s+/);
    const { options, persistent } = device;
    const is = (...expected: string[]): boolean => expected.every((word, i) => words[i] === word) && words.length >= expected.length;
    if (is('tell', 'unit')) {
      const { added, gone } = device.unsavedSettings;
      const facts: [string, string | number][] = [
        ['model', options.model.model],
        ['variant', options.model.variant || 'plain'],
        ['hardware', options.model.hardwareRevision],
        ['serial', options.serial],
        ['mac', options.mac],
        ['firmware', device.running.version],
        ['loader', device.ails('older-loader-on-new') ? '1.0' : options.model.bootLoader],
        ['boots', persistent.boots],
        ['up', `${Math.floor(device.upSeconds)} s`],
        ['settings', added.length + gone.length > 0 ? 'unkept' : 'kept'],
        ['slot room', device.freeBytes],
        ['work', device.busy ? 'fetching' : 'idle'],
      ];
      for (const [key, value] of facts) terminal.line(`${`${key} `.padEnd(14, '.')} ${value}`);
    } else if (is('tell', 'slots')) {
      for (const name of ['1', '2']) {
        const isLost = device.ails('fallback-lost-on-new') && device.running.name !== name;
        const slot = isLost ? undefined : persistent.store.find((s) => s.name === name);
        const marks = [device.running.name === name ? 'running' : 'spare', persistent.nextBoot === name ? 'next' : 'not-next'].join(' ');
        terminal.line(slot ? `slot ${name}: ${slot.version} ${marks} ${slot.fault ?? 'sound'}` : `slot ${name}: empty ${marks}`);
        if (slot) terminal.line(`        sum ${slot.sha256}`);
      }
    } else if (is('tell', 'start')) {
      terminal.line(`settings come from ${device.ails('starts-from-works-on-new') ? 'the works' : 'where they are kept'}`);
    } else if (is('tell', 'rights')) {
      for (const right of device.ails('right-lost-on-new') ? rights.slice(1) : rights) terminal.line(`right ${right} for ever`);
    } else if (is('tell', 'log')) {
      terminal.line('0 s    started');
      terminal.line('4 s !! lamp of port 2 does not answer');
      if (device.ails('complains-on-new')) terminal.line('9 s !! lamp driver is of another release');
    } else if (is('tell', 'settings', 'unkept')) {
      const { added, gone } = device.unsavedSettings;
      for (const text of added) terminal.line(`new  ${text}`);
      for (const text of gone) terminal.line(`gone ${text}`);
    } else if (is('tell', 'settings')) {
      terminal.line(`! told after ${Math.floor(device.upSeconds)} s`);
      for (const text of device.settings) terminal.line(text);
    } else if (is('send', 'settings') && words.length === 5) {
      await sendSettings(
        {
          address: options.address,
          timeScale: options.timeScale,
          settings: [`! told after ${Math.floor(device.upSeconds)} s`, ...device.settings],
          blocked: device.faults.has('way-blocked'),
          inCapitals: device.faults.has('asks-in-capitals'),
        },
        words.slice(2),
        terminal,
      );
    } else if (is('take', 'settings')) {
      taken.set(device, []);
      terminal.line('say each after the word line, and use settings at the end');
    } else if (is('line') && taken.has(device)) {
      taken.get(device)!.push(line.slice('line '.length));
    } else if (is('use', 'settings')) {
      const lines = taken.get(device) ?? [];
      taken.delete(device);
      if (lines.length === 0) return terminal.line('no: there are none to use');
      for (const unknown of device.useSettings(lines)) terminal.line(`no: "${unknown}" is no setting of mine`);
      terminal.line(`in use: ${device.settings.length}`);
    } else if (is('keep', 'settings')) {
      await device.keepSettings();
      terminal.line('kept');
    } else if (is('fetch') && words.length === 4) {
      if (device.busy) return terminal.line('no: busy with an earlier fetch');
      const file = device.freeBytes;
      device.busy = true;
      try {
        let told = -1;
        const percent = (what: string) => (p: number) => {
          if (p < told + 5 && p < 100) return;
          told = p;
          terminal.line(`${what} ${p}%`);
        };
        const bytes = await device.pull(words[1]!, Number(words[2]), words[3]!, percent('fetched'));
        if (bytes.length > file) return terminal.line(`no: ${bytes.length} octets do not fit into a slot of ${file}`);
        const unfit = device.unfit(bytes);
        if (unfit !== null) return terminal.line(`no: the file is ${unfit}`);
        told = -1;
        await device.write(spareOf(device), bytes, percent('written'));
        terminal.line(`done: slot ${spareOf(device)}`);
      } catch (error) {
        terminal.line(`no: fetch ended, ${(error as Error).message}`);
      } finally {
        device.busy = false;
      }
    } else if (is('test', 'slot') && words[2]) {
      const slot = persistent.store.find((s) => s.name === words[2]);
      await device.wait(2);
      if (!slot) terminal.line(`no: slot ${words[2]} is empty`);
      else
        terminal.line(
          slot.fault === null
            ? `sound ${slot.version} octets ${slot.bytes} sum ${slot.sha256}`
            : `no: slot ${slot.name} is bad, ${slot.fault}`,
        );
    } else if (is('double', 'to', 'slot') && words[3]) {
      const slot = persistent.store.find((s) => s.name === words[3]);
      if (!slot || slot.name === device.running.name) terminal.line(`no: slot ${words[3]} is not the spare one`);
      else {
        await device.double(slot.name);
        terminal.line(`doubled to slot ${slot.name}`);
      }
    } else if (is('choose', 'slot') && words[2]) {
      const slot = persistent.store.find((s) => s.name === words[2]);
      await device.wait(1);
      if (!slot || slot.fault !== null) terminal.line(`no: slot ${words[2]} cannot be started`);
      else {
        device.choose(slot.name);
        terminal.line(`chosen slot ${slot.name}`);
      }
    } else if (is('hail') && words[1]) {
      await device.wait(1);
      terminal.line(device.hears(words[1]) ? `heard from ${words[1]}` : `nothing from ${words[1]}`);
    } else if (is('answer', 'at') && words[2]) {
      terminal.line((await device.answerAt(words[2])) ? `answering at ${words[2]}` : `no: ${words[2]} is not for me`);
    } else if (is('blink') && words[1]) {
      device.counters.located++;
      terminal.line(`blinking for ${words[1]} s`);
    } else if (is('restart')) {
      const answer = await terminal.ask('Restart this switch? Say yes or no: ');
      if (answer.trim() === 'yes') device.restart();
      else terminal.line('staying up');
    } else if (is('leave')) terminal.hangUp();
    else if (is('help'))
      for (const text of [
        'tell unit|slots|settings|start|rights|log',
        'keep settings',
        'take settings, line TEXT, use settings',
        'send settings HOST PORT NAME',
        'fetch HOST PORT FILE',
        'test slot N',
        'choose slot N',
        'double to slot N',
        'hail HOST',
        'answer at ADDRESS',
        'blink SECONDS',
        'restart',
        'leave',
      ])
        terminal.line(text);
    else terminal.line(`what? "${line}" is no word of mine`);
  },
};
