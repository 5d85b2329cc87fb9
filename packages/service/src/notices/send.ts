import type { Notice, OccasionKind } from '@barrow/core';
import { digestField, signRequest } from '@barrow/wire';

/** How long a server may take for one message, in milliseconds. */
const mostMs = 20_000;

/** The server through which mail goes out; `secret` in the clear. */
export interface MailServer {
  readonly host: string;
  readonly port: number;
  readonly tls: 'implicit' | 'starttls' | 'none';
  readonly from: string;
  readonly user: string | null;
  readonly secret: string | null;
}

/** A message as it goes out, about a rollout or as a trial. */
export interface Letter extends Notice {
  readonly at: string;
  readonly rollout: { readonly id: string; readonly name: string } | null;
  /** Where it is to be seen. */
  readonly link: string;
}

/** The meaning of errors of Node.js, OpenSSL and nodemailer, and what helps; the first that fits counts. */
const meanings: readonly (readonly [RegExp, string])[] = [
  [/wrong version number|packet length too long|0A00010B|0A0000C6/i, 'the server does not use TLS on this port: try another `--tls`'],
  [/must issue a STARTTLS/i, 'the server takes mail over TLS only: try `--tls starttls`'],
  [/\bETLS\b/, 'the server does not offer STARTTLS: try `--tls implicit` or `--tls none`'],
  [/certificate|CERT_|altnames|self.signed/i, 'this machine does not trust the certificate of the server: add it with NODE_EXTRA_CA_CERTS'],
  [/ECONNREFUSED/, 'nothing listens at this address and port'],
  [/ENOTFOUND|EAI_AGAIN|EDNS/, 'the name of the server is not known here: check the name and the DNS server'],
  [/ETIMEDOUT|TimeoutError|timeout/i, 'no answer in time: check address, port and firewall'],
  [/ECONNRESET|EPIPE|other side closed|Unexpected socket close/i, 'the server closed the connection: check the port and `--tls`'],
  [/EHOSTUNREACH|ENETUNREACH/, 'there is no route to the server'],
  [/\bbad port\b/, 'web clients never use this port: take another'],
  [/EAUTH/, 'the server refused the login'],
];

/** A failure of a message or of the heartbeat in words, with nothing of a secret in them: what it means, then the error itself. */
export const troubleOf = (error: unknown): string => {
  const { code, name, message, cause } = error as {
    code?: string;
    name?: string;
    message?: string;
    cause?: { code?: string; message?: string };
  };
  const line = (cause?.code ?? cause?.message ?? message ?? String(error)).split('\n')[0]!.slice(0, 300);
  const all = [code, name, cause?.code, cause?.message, message].join(' ');
  const meaning = meanings.find(([sign]) => sign.test(all))?.[1];
  return meaning === undefined ? line : `${meaning} (${line})`;
};

/**
 * Sends a message by mail (RFC 5321, RFC 5322).
 *
 * @param sheet a page that goes with it
 * @throws Error when the server does not take it
 */
export async function sendMail(server: MailServer, to: string, letter: Letter, sheet: string | null = null): Promise<void> {
  const { createTransport } = await import('nodemailer');
  const transport = createTransport({
    host: server.host,
    port: server.port,
    secure: server.tls === 'implicit',
    requireTLS: server.tls === 'starttls',
    ignoreTLS: server.tls === 'none',
    ...(server.user === null ? {} : { auth: { user: server.user, pass: server.secret ?? '' } }),
    connectionTimeout: mostMs,
    greetingTimeout: mostMs,
    socketTimeout: mostMs,
    disableFileAccess: true,
    disableUrlAccess: true,
  });
  try {
    await transport.sendMail({
      from: { name: 'Barrow', address: server.from },
      to,
      subject: `Barrow: ${letter.subject}`,
      text: [...letter.lines, '', letter.link, ''].join('\n'),
      ...(sheet === null
        ? {}
        : { attachments: [{ filename: 'night-sheet.html', content: sheet, contentType: 'text/html; charset=utf-8' }] }),
      // It answers nobody, and nobody's absence note should answer it (RFC 3834).
      headers: { 'Auto-Submitted': 'auto-generated' },
    });
  } finally {
    transport.close();
  }
}

/** What a request carries, as JSON. */
interface HookBody {
  readonly kind: OccasionKind;
  readonly at: string;
  readonly rollout: Letter['rollout'];
  readonly subject: string;
  readonly lines: readonly string[];
  readonly link: string;
}

/**
 * Sends a message as a signed request (RFC 9421 over method, address and the digest of the content, RFC 9530).
 * @throws Error when nothing answers, or with anything but 2xx
 */
export async function sendHook(url: string, key: string, name: string, letter: Letter): Promise<void> {
  const { kind, at, rollout, subject, lines, link } = letter;
  const content = JSON.stringify({ kind, at, rollout, subject, lines, link } satisfies HookBody);
  const headers = { 'content-type': 'application/json', 'content-digest': digestField(content) };
  const signed = signRequest(
    { method: 'POST', url, headers },
    ['@method', '@target-uri', 'content-type', 'content-digest'],
    { created: Math.floor(Date.now() / 1000), keyid: name, alg: 'hmac-sha256' },
    Buffer.from(key, 'utf8'),
  );
  await call('POST', url, { ...headers, ...signed }, content);
}

/** Calls the address that waits for a sign of life. @throws Error */
export const beat = (url: string): Promise<void> => call('GET', url, {}, null);

async function call(method: string, url: string, headers: Record<string, string>, body: string | null): Promise<void> {
  const answer = await fetch(url, { method, headers, body, redirect: 'manual', signal: AbortSignal.timeout(mostMs) });
  await answer.body?.cancel();
  if (!answer.ok) throw new Error(`it answered ${answer.status}`);
}
