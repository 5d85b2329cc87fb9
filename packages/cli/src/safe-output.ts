import type { Io } from './output.js';

/**
 * Control characters (ISO 6429), and those that turn the direction of writing (Unicode UAX 9). Tabs and line ends stay, and so do
 * the few sequences that this program itself writes: colours, and the one that clears the line of moving progress.
 */
const unsafe =
  // eslint-disable-next-line no-control-regex -- control characters are what it looks for
  /\r\u001b\[K|\u001b\[(?:0|1|2|22|3[0-7]|39)m|\r\n|[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g;

/** The same text, in which nothing that a device, a file or a service wrote can move the cursor or hide a line. */
export function safeOutput(text: string, json: boolean): string {
  return text.replace(unsafe, (found) => {
    if (found.length > 1 && !json) return found;
    return [...found]
      .map((c) =>
        c === '\n'
          ? c
          : `\\${json ? 'u' : 'x'}${c
              .charCodeAt(0)
              .toString(16)
              .padStart(json ? 4 : 2, '0')}`,
      )
      .join('');
  });
}

/** Everything that a command prints goes through here. */
export const safeIo = (io: Io, json: boolean): Io => ({
  ...io,
  out: (text) => io.out(safeOutput(text, json)),
  err: (text) => io.err(safeOutput(text, json)),
});
