import { createHash, type Hash } from 'node:crypto';
import { parentPort } from 'node:worker_threads';

/** What the thread of a sum is told: octets to add, or to tell the sum of what came so far. */
export type SumOrder = { readonly octets: ArrayBuffer; readonly length: number } | { readonly tell: number };
/** What it answers: the memory is free again, or the sum. */
export type SumAnswer = { readonly free: ArrayBuffer } | { readonly told: number; readonly digest: string };

const hash: Hash = createHash('sha256');

parentPort!.on('message', (order: SumOrder) => {
  if ('tell' in order) return answer({ told: order.tell, digest: hash.copy().digest('hex') });
  hash.update(new Uint8Array(order.octets, 0, order.length));
  answer({ free: order.octets }, [order.octets]);
});

function answer(message: SumAnswer, transfer: ArrayBuffer[] = []): void {
  parentPort!.postMessage(message, transfer);
}
