import type { Agreed } from './options.js';
import type { TftpRequest } from './packets.js';
import type { SharedLink } from '../pacer.js';
import type { Packets, TftpAddress, TftpPeer } from './server.js';
import type { TransferEnd, TransferProgress } from './transfer.js';

/** What the worker is started with. */
export interface TftpWorkerData {
  readonly hosts: readonly string[];
  readonly port: number;
  readonly tries: number;
  readonly mostTransfers: number;
  readonly progressEveryMs: number;
}

/** How an answer travels to the worker: the caller's tag stays where it is, a number stands for it. */
export type AnswerMessage =
  | { readonly kind: 'send'; readonly path: string; readonly bytes: number; readonly link: SharedLink | null }
  | { readonly kind: 'take'; readonly mostBytes: number }
  | { readonly kind: 'refuse'; readonly code: number; readonly message: string };

export type ToWorker =
  | { readonly kind: 'answer'; readonly id: number; readonly answer: AnswerMessage }
  | { readonly kind: 'end'; readonly id: number; readonly why: string }
  | { readonly kind: 'packets'; readonly id: number; readonly question: number }
  | { readonly kind: 'stop'; readonly why: string };

export type FromWorker =
  | { readonly kind: 'listening'; readonly port: number }
  | { readonly kind: 'failed'; readonly detail: string }
  | { readonly kind: 'ask'; readonly id: number; readonly request: TftpRequest; readonly peer: TftpPeer; readonly at: TftpAddress }
  | { readonly kind: 'begin'; readonly id: number; readonly agreed: Agreed }
  | { readonly kind: 'progress'; readonly moving: readonly (readonly [id: number, progress: TransferProgress])[] }
  | {
      readonly kind: 'end';
      readonly id: number;
      readonly end: TransferEnd;
      readonly progress: TransferProgress;
      readonly packets: Packets;
      /** What was taken. */
      readonly content: Uint8Array | null;
    }
  | {
      readonly kind: 'refused';
      readonly peer: TftpPeer;
      readonly request: TftpRequest | null;
      readonly why: string;
      readonly at: TftpAddress;
      /** Refusals since the last one told, that were not told one by one. */
      readonly untold: number;
    }
  | { readonly kind: 'packets'; readonly question: number; readonly packets: Packets | null }
  | { readonly kind: 'stopped' };
