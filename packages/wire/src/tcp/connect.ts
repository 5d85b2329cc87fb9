import { setMaxListeners } from 'node:events';
import { connect, type Socket } from 'node:net';
import { needHost } from '../need-host.js';
import { ownTimeout } from '../own-time.js';

export interface ConnectInput {
  readonly addresses: readonly string[];
  readonly ports: readonly number[];
  readonly connectsPerSecond: number;
  readonly atOnce: number;
  readonly timeoutMs: number;
  readonly signal?: AbortSignal;
  readonly onOpen: (address: string, port: number) => void;
  readonly onProgress?: (tried: number, of: number) => void;
}

/** Tries to connect to every port of every address, paced, a bounded number at once; nothing is sent. */
export async function tryConnects(input: ConnectInput): Promise<void> {
  input.addresses.forEach(needHost);
  const of = input.addresses.length * input.ports.length;
  const stopped = (): boolean => input.signal?.aborted ?? false;
  const began = performance.now();
  let next = 0;
  let ended = 0;
  const open = new Set<Socket>();
  const stop = (): void => open.forEach((socket) => socket.destroy());
  // Every worker listens for the stop while it waits for its turn.
  if (input.signal) setMaxListeners(0, input.signal);
  input.signal?.addEventListener('abort', stop);
  const worker = async (): Promise<void> => {
    while (next < of && !stopped()) {
      const mine = next++;
      const due = began + (mine / input.connectsPerSecond) * 1000 - performance.now();
      if (due > 1) await pause(due, input.signal);
      if (stopped()) return;
      const address = input.addresses[Math.floor(mine / input.ports.length)]!;
      const port = input.ports[mine % input.ports.length]!;
      if (await opens(address, port, input.timeoutMs, open)) input.onOpen(address, port);
      ended++;
      input.onProgress?.(ended, of);
    }
  };
  await Promise.all(Array.from({ length: Math.min(input.atOnce, of) }, worker));
  input.signal?.removeEventListener('abort', stop);
}

function opens(address: string, port: number, timeoutMs: number, open: Set<Socket>): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect({ host: address, port });
    open.add(socket);
    let is = false;
    const timer = ownTimeout(() => socket.destroy(), timeoutMs);
    socket.on('connect', () => {
      is = true;
      socket.destroy();
    });
    socket.on('error', () => undefined);
    socket.on('close', () => {
      timer.cancel();
      open.delete(socket);
      resolve(is);
    });
  });
}

function pause(ms: number, signal?: AbortSignal): Promise<void> {
  return new Promise((resolve) => {
    const end = (): void => {
      clearTimeout(timer);
      signal?.removeEventListener('abort', end);
      resolve();
    };
    const timer = setTimeout(end, ms);
    signal?.addEventListener('abort', end);
  });
}
