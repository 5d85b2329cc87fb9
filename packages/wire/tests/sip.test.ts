import { createSocket, type Socket } from 'node:dgram';
import { afterEach, describe, expect, it } from 'vitest';
import { askSip } from '@barrow/wire';

const undo: (() => unknown)[] = [];
afterEach(async () => {
  for (const step of undo.splice(0).reverse()) await step();
});

/** A user agent that does with each request what it is told. */
async function agent(
  answer: (request: string, times: number, reply: (text: string) => void) => void,
): Promise<{ port: number; heard: string[] }> {
  const socket: Socket = createSocket('udp4');
  const heard: string[] = [];
  socket.on('message', (packet, from) => {
    heard.push(packet.toString('utf8'));
    answer(heard.at(-1)!, heard.length, (text) => socket.send(text, from.port, from.address));
  });
  await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
  undo.push(() => socket.close());
  return { port: socket.address().port, heard };
}
const callOf = (request: string): string => /^Call-ID: (.*)\r$/m.exec(request)![1]!;
const target = (port: number, timeoutMs = 20_000) => ({ host: '127.0.0.1', port, timeoutMs });

describe('a SIP request outside of a dialog', () => {
  it('carries its body with its length and type, and brings the status, the headers and what follows them', async () => {
    const { port, heard } = await agent((request, _, reply) =>
      reply(`SIP/2.0 202 Accepted\r\nCall-ID: ${callOf(request)}\r\nUser-Agent: one\r\nContent-Length: 4\r\n\r\ndone`),
    );
    const answer = await askSip(target(port), { method: 'MESSAGE', body: 'löök' });
    expect(answer).toMatchObject({ status: 202, body: 'done' });
    expect(answer.head.split('\n')).toContain('User-Agent: one');
    expect(heard[0]).toMatch(/^MESSAGE sip:127\.0\.0\.1 SIP\/2\.0\r\n/);
    expect(heard[0]).toContain('\r\nContent-Type: text/plain\r\nContent-Length: 6\r\n\r\nlöök');
    // RFC 3428 §4: a MESSAGE carries no Contact.
    expect(heard[0]).not.toContain('Contact:');
  });

  it('says of what a NOTIFY tells', async () => {
    const { port, heard } = await agent((request, _, reply) => reply(`SIP/2.0 200 OK\r\ni: ${callOf(request)}\r\n\r\n`));
    expect((await askSip(target(port), { method: 'NOTIFY', event: 'rules' })).status).toBe(200);
    expect(heard[0]).toContain('\r\nEvent: rules\r\n');
  });

  it('is sent again while nothing comes, and once it is answered no more', async () => {
    const { port, heard } = await agent((request, times, reply) => {
      if (times === 3) reply(`SIP/2.0 200 OK\r\nCall-ID: ${callOf(request)}\r\n\r\n`);
    });
    expect((await askSip(target(port), { method: 'OPTIONS' })).status).toBe(200);
    // The same request, not a new one (RFC 3261 §17.1.2.2).
    expect(new Set(heard).size).toBe(1);
    expect(heard).toHaveLength(3);
  });

  it('takes neither what is provisional for its answer, nor what answers somebody else, nor what is no SIP', async () => {
    const { port } = await agent((request, _, reply) => {
      reply('what?');
      reply('SIP/2.0 200 OK\r\nCall-ID: another@barrow.invalid\r\n\r\n');
      reply(`SIP/2.0 100 Trying\r\nCall-ID: ${callOf(request)}\r\n\r\n`);
      reply(`SIP/2.0 486 Busy Here\r\nCall-ID: ${callOf(request)}\r\n\r\n`);
    });
    expect((await askSip(target(port), { method: 'OPTIONS' })).status).toBe(486);
  });

  it('ends when nothing comes in its time, when nobody is there, and when it is stopped', async () => {
    const { port } = await agent(() => undefined);
    await expect(askSip(target(port, 300), { method: 'OPTIONS' })).rejects.toMatchObject({ fault: 'timeout' });
    const gone = createSocket('udp4');
    await new Promise<void>((resolve) => gone.bind(0, '127.0.0.1', resolve));
    const closed = gone.address().port;
    await new Promise<void>((resolve) => gone.close(() => resolve()));
    await expect(askSip(target(closed), { method: 'OPTIONS' })).rejects.toMatchObject({ fault: 'unreachable' });
    const stop = new AbortController();
    const asked = askSip({ ...target(port), signal: stop.signal }, { method: 'OPTIONS' });
    stop.abort();
    await expect(asked).rejects.toMatchObject({ fault: 'cancelled' });
  });
});
