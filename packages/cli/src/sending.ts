import { once } from 'node:events';
import { request as requestHttp, type IncomingMessage } from 'node:http';
import { request as requestHttps } from 'node:https';
import { text } from 'node:stream/consumers';

/**
 * As the platform's `fetch`; only the pieces of an upload go to the socket as they are. The platform copies each of them twice on
 * its way through web streams, which costs more than reading, sending and receiving a large image together.
 */
export const fetchSending: typeof fetch = async (input, init) => {
  const body = init?.body as unknown;
  if (!isPieces(body)) return fetch(input, init);
  const url = new URL(input instanceof Request ? input.url : input);
  try {
    return await send(url, { ...init, body: null }, body);
  } catch (error) {
    if (init?.signal?.aborted) throw error;
    // The platform tells what went wrong below it in the same way.
    throw new TypeError('fetch failed', { cause: error });
  }
};

const isPieces = (body: unknown): body is AsyncIterable<Buffer> =>
  typeof body === 'object' && body !== null && Symbol.asyncIterator in body && !(body instanceof ReadableStream);

async function send(url: URL, init: RequestInit, pieces: AsyncIterable<Buffer>): Promise<Response> {
  const request = (url.protocol === 'https:' ? requestHttps : requestHttp)(url, {
    method: init.method ?? 'PUT',
    agent: false,
    headers: Object.fromEntries(new Headers(init.headers)),
    ...(init.signal ? { signal: init.signal } : {}),
  });
  const answered = once(request, 'response') as Promise<[IncomingMessage]>;
  // Who has answered may break off while we still write; nobody else listens to that by then.
  request.on('error', () => undefined).on('socket', (socket) => socket.on('error', () => undefined));
  let isAnswered = false;
  // Whoever answers before everything was sent refuses the rest.
  answered.then(
    () => (isAnswered = true),
    () => (isAnswered = true),
  );
  for await (const piece of pieces) {
    if (isAnswered) break;
    if (!request.write(piece)) await Promise.race([once(request, 'drain'), answered]);
  }
  if (!isAnswered) request.end();
  const [response] = await answered;
  const answer = new Response(await text(response), {
    status: response.statusCode ?? 500,
    headers: { 'content-type': response.headers['content-type'] ?? 'text/plain' },
  });
  request.destroy();
  return answer;
}
