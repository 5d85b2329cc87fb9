import ssh2, { type Connection, type ParsedKey, type ServerChannel, type Session } from 'ssh2';

const { Server, utils } = ssh2;

/** An ed25519 host key in PEM; now and then the generator gives one that cannot be parsed, so it is tried again. */
export function makeHostKey(): string {
  for (;;) {
    const { private: pem } = utils.generateKeyPairSync('ed25519');
    if (!(utils.parseKey(pem) instanceof Error)) return pem;
  }
}

const authorizedKeys: ParsedKey[] = [];

/** Lets whoever has the private half of a key into every shell of this process, without a password. */
export function authorizeKey(publicKey: string): void {
  const key = utils.parseKey(publicKey);
  if (key instanceof Error) throw key;
  authorizedKeys.push(key);
}

export interface Terminal {
  /** Writes one line, at the pace of the console. */
  line(text: string): void;
  /** Writes without a line end. */
  raw(text: string): void;
  /** Reads one more line from the person, without paging; `hidden`: what is typed is not shown. */
  ask(question: string, hidden?: boolean): Promise<string>;
  /** Nobody is there any more. */
  gone(): boolean;
  /** Ends the session. */
  hangUp(): void;
}

export interface ShellServerOptions {
  readonly address: string;
  readonly port: number;
  readonly hostKey: string;
  readonly mayLogIn: (user: string, password: string) => boolean;
  /** What it says of itself in its identification, RFC 4253 §4.2. */
  readonly ident?: string;
  /** How it asks for the password; `keyboard-interactive` is RFC 4256. */
  readonly method?: 'password' | 'keyboard-interactive';
  /** Sessions at once; more are turned away before the handshake. */
  readonly mostSessions?: number;
  /** Host key algorithms that it offers; those of its key when absent. */
  readonly algorithms?: object;
  /** Milliseconds that a login is left waiting, as by a login server that does not answer; Infinity: for ever. */
  readonly loginDelayMs?: () => number;
  readonly banner: string;
  readonly prompt: (session: { raised: boolean }) => string;
  readonly command: (line: string, terminal: Terminal, session: { raised: boolean }) => Promise<void>;
  /** Real milliseconds that one line takes on its way. */
  readonly lineMs: number;
  readonly pageLines: number;
  readonly pagePrompt: string;
  readonly pageKey: string;
  /** What else a session may ask for, besides a shell. */
  readonly onSession?: (session: Session) => void;
}

export interface ShellServer {
  stop(): Promise<void>;
}

/** Starts a device's SSH server with a terminal of its own. */
export function startShellServer(options: ShellServerOptions): Promise<ShellServer> {
  const connections = new Set<Connection>();
  const method = options.method ?? 'password';
  const config = { hostKeys: [options.hostKey], ident: options.ident, ...(options.algorithms ? { algorithms: options.algorithms } : {}) };
  const server = new Server(config as never, (connection) => {
    if (connections.size >= (options.mostSessions ?? Infinity)) {
      connection.on('error', () => undefined);
      (connection as unknown as { _sock?: { destroy(): void } })._sock?.destroy();
      return;
    }
    connections.add(connection);
    connection.on('error', () => undefined);
    connection.on('close', () => connections.delete(connection));
    connection.on('authentication', (context) => {
      const decide = (password: string): void => {
        const answer = (): void => (options.mayLogIn(context.username, password) ? context.accept() : context.reject([method]));
        const delay = options.loginDelayMs?.() ?? 0;
        if (delay === 0) answer();
        else if (Number.isFinite(delay)) setTimeout(answer, delay);
      };
      if (context.method === 'password' && method === 'password') decide(context.password);
      else if (context.method === 'keyboard-interactive' && method === 'keyboard-interactive')
        context.prompt([{ prompt: 'Word: ', echo: false }], (answers) => decide(answers[0] ?? ''));
      else if (context.method === 'publickey') {
        const key = authorizedKeys.find((k) => k.getPublicSSH().equals(context.key.data));
        const { blob, signature, hashAlgo } = context;
        if (key && (!signature || key.verify(blob!, signature, hashAlgo) === true)) context.accept();
        else context.reject([method]);
      } else context.reject([method]);
    });
    connection.on('ready', () => {
      connection.on('session', (accept) => {
        const session = accept();
        session.on('pty', (acceptPty) => acceptPty?.());
        options.onSession?.(session);
        session.on('shell', (acceptShell) => void serve(acceptShell(), connection, options));
      });
    });
    (connection as unknown as { setNoDelay?: (on: boolean) => void }).setNoDelay?.(true);
  });
  return new Promise((resolve, reject) => {
    server.once('error', reject);
    server.listen(options.port, options.address, () =>
      resolve({
        stop: () =>
          new Promise<void>((done) => {
            server.close(() => done());
            for (const connection of connections) {
              connection.end();
              (connection as unknown as { _sock?: { destroy(): void } })._sock?.destroy();
            }
          }),
      }),
    );
  });
}

/** One line of so many comes in two pieces. */
const inPieces = 4;

async function serve(channel: ServerChannel, connection: Connection, options: ShellServerOptions): Promise<void> {
  let over = false;
  const queue: string[] = [];
  let wake: (() => void) | null = null;
  channel.on('close', () => {
    over = true;
    wake?.();
  });
  channel.on('error', () => undefined);
  channel.on('data', (data: Buffer) => {
    queue.push(...data.toString('utf8'));
    wake?.();
  });
  const key = async (): Promise<string | null> => {
    while (queue.length === 0 && !over) await new Promise<void>((resolve) => (wake = resolve));
    return queue.shift() ?? null;
  };
  const write = (text: string): void => {
    if (!over) channel.write(text);
  };
  const readLine = async (hidden = false): Promise<string | null> => {
    let line = '';
    // What came at once is echoed at once.
    let echo = '';
    for (;;) {
      if (queue.length === 0 && echo !== '') {
        write(echo);
        echo = '';
      }
      const char = await key();
      if (char === null) return null;
      if (char === '\n' || char === '\r') {
        write(`${echo}\r\n`);
        return line;
      }
      line += char;
      if (!hidden) echo += char;
    }
  };
  const pause = (ms: number): Promise<void> => (ms >= 1 ? new Promise((resolve) => setTimeout(resolve, ms)) : Promise.resolve());

  /** The rights of this session, and of no other. */
  const session = { raised: false };
  write(`${options.banner}\r\n`);
  while (!over) {
    write(options.prompt(session));
    const line = await readLine();
    if (line === null) break;
    if (line.trim() === '') continue;
    // A slow console: lines are laid down one after the other, some in two pieces, page by page.
    let tail = Promise.resolve();
    let onPage = 0;
    let laid = 0;
    const lay = (text: string): void => {
      tail = tail.then(async () => {
        if (over) return;
        if (onPage >= options.pageLines) {
          write(options.pagePrompt);
          for (;;) {
            const pressed = await key();
            if (pressed === null || pressed === options.pageKey) break;
          }
          write(`\r${' '.repeat(options.pagePrompt.length)}\r`);
          onPage = 0;
        }
        const cut = laid++ % inPieces === 0 ? Math.ceil(text.length / 2) : 0;
        if (cut > 0) write(text.slice(0, cut));
        await pause(options.lineMs);
        write(`${text.slice(cut)}\r\n`);
        onPage++;
      });
    };
    await options.command(
      line.trim(),
      {
        line: lay,
        raw: (text) => {
          tail = tail.then(() => write(text));
        },
        ask: async (question, hidden) => {
          await tail;
          onPage = 0;
          write(question);
          return (await readLine(hidden)) ?? '';
        },
        gone: () => over,
        hangUp: () => {
          over = true;
          channel.end();
          connection.end();
        },
      },
      session,
    );
    await tail;
  }
  channel.end();
}
