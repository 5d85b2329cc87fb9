import type { StandIn } from '../device.js';
import type { Terminal } from './shell-server.js';

/** Ends the joining of a line, from the side of the console server. */
const backToServer = '~back';

/**
 * What is said over a line of a console server: to the device that is plugged in there, which asks who one is before it lets anybody
 * in, and leaves whoever was there last logged in until they leave. One that does not live says nothing.
 */
export async function serveLine(device: StandIn | null, terminal: Terminal): Promise<void> {
  while (!terminal.gone()) {
    if (device?.state !== 'up') {
      if ((await terminal.ask('')) === backToServer) return;
      continue;
    }
    if (!loggedIn.has(device)) {
      const user = await terminal.ask('who: ');
      if (user === backToServer) return;
      if (user === '') continue;
      if (!device.opens(user, await terminal.ask('word: ', true))) {
        terminal.line('no: that does not open it');
        continue;
      }
      loggedIn.add(device);
    }
    const { shell } = device.options;
    const line = (await terminal.ask(shell.prompt(device.hostname))).trim();
    if (line === backToServer) return;
    if (line === 'leave') loggedIn.delete(device);
    else if (line !== '') await shell.command(line, device, terminal);
  }
}

/** Somebody has logged in over its console, and nobody has left since. */
const loggedIn = new WeakSet<StandIn>();

/** For a test: whether somebody is logged in there. */
export const isLoggedInOver = (device: StandIn): boolean => loggedIn.has(device);
