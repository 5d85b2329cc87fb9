import { nowhere } from '../access.js';
import type { Terminal } from './shell-server.js';
import { put } from './tftp-put.js';

/** Sends settings to a TFTP store at a person's word, and tells on the terminal how it went. */
export async function sendSettings(
  device: {
    readonly address: string;
    readonly timeScale: number;
    readonly settings: readonly string[];
    /** Nothing comes back: a port at which nobody listens. */
    readonly blocked: boolean;
    readonly inCapitals: boolean;
  },
  words: readonly string[],
  terminal: Terminal,
): Promise<void> {
  const [host = '', port = '', name = ''] = words;
  const content = Buffer.from(`${device.settings.join('\n')}\n`);
  try {
    await put({
      from: device.address,
      ...(device.blocked ? nowhere : { host, port: Number(port) }),
      name: device.inCapitals ? name.toUpperCase() : name,
      content,
      timeoutMs: Math.max(300, 5000 / device.timeScale),
    });
    terminal.line(`sent ${content.length} octets`);
  } catch (error) {
    terminal.line(`no: sending ended, ${(error as Error).message}`);
  }
}
