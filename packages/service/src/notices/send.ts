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

/** A failure in words, with nothing of a secret in them. */
export const troubleOf = (error: unknown): string => {
  const { message, cause } = error as { message?: string; cause?: { code?: string; message?: string } };
  return (cause?.code ?? cause?.message ?? message ?? String(error)).split('\n')[0]!.slice(0, 300);
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
