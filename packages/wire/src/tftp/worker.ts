import { parentPort, workerData } from 'node:worker_threads';
import { TftpServer, type ServedTransfer } from './server.js';
import type { AnswerMessage, FromWorker, TftpWorkerData, ToWorker } from './worker-messages.js';

/** The thread in which transfers move: whatever the service is busy with, blocks go out on time. */
const port = parentPort!;
const data = workerData as TftpWorkerData;
const tell = (message: FromWorker): void => port.postMessage(message);

/** The most refusals that are told one by one in a second; a flood is told as a number. */
const mostToldPerSecond = 50;

let next = 1;
const asked = new Map<number, (answer: AnswerMessage) => void>();
const moving = new Map<number, ServedTransfer>();
let refusals = { second: 0, told: 0, untold: 0 };

const server = new TftpServer<number>({
  host: data.hosts,
  port: data.port,
  tries: data.tries,
  mostTransfers: data.mostTransfers,
  answer: async (request, peer, at) => {
    const id = next++;
    const answer = await new Promise<AnswerMessage>((resolve) => {
      asked.set(id, resolve);
      tell({ kind: 'ask', id, request, peer, at });
    });
    asked.delete(id);
    return answer.kind === 'refuse' ? answer : { ...answer, tag: id };
  },
  onBegin: (id, _peer, _request, agreed, transfer) => {
    moving.set(id, transfer);
    tell({ kind: 'begin', id, agreed });
  },
  onEnd: (id, end, progress, packets, content) => {
    moving.delete(id);
    tell({ kind: 'end', id, end, progress, packets: packets(), content });
  },
  onRefused: (peer, request, why, at) => {
    const second = Math.floor(performance.now() / 1000);
    if (refusals.second !== second) refusals = { second, told: 0, untold: refusals.untold };
    if (refusals.told >= mostToldPerSecond) {
      refusals.untold++;
      return;
    }
    refusals.told++;
    tell({ kind: 'refused', peer, request, why, at, untold: refusals.untold });
    refusals.untold = 0;
  },
});

// All that moves is told in one message, because a message for each block would cost more than the block.
const timer = setInterval(() => {
  if (moving.size > 0) tell({ kind: 'progress', moving: [...moving].map(([id, transfer]) => [id, transfer.progress] as const) });
}, data.progressEveryMs);

port.on('message', (message: ToWorker) => {
  switch (message.kind) {
    case 'answer':
      asked.get(message.id)?.(message.answer);
      break;
    case 'end':
      moving.get(message.id)?.stop(message.why);
      break;
    case 'packets':
      tell({ kind: 'packets', question: message.question, packets: moving.get(message.id)?.packets() ?? null });
      break;
    case 'stop':
      clearInterval(timer);
      void server.stop(message.why).then(() => {
        tell({ kind: 'stopped' });
        port.close();
      });
      break;
  }
});

try {
  tell({ kind: 'listening', port: (await server.start()).port });
} catch (error) {
  tell({ kind: 'failed', detail: error instanceof Error ? error.message : String(error) });
}
