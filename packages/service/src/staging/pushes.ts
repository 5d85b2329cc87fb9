import { safeText, type CauseError } from '@barrow/core';
import type { CarriedFile } from '@barrow/families';
import type { DeviceRow, ImageRow } from '../data/entities.js';
import type { LiveTransfer, Transfers } from './transfers.js';

/** The record of what Barrow carries to a device: one line for each file, in their order. */
export class Pushes {
  readonly all: LiveTransfer[] = [];
  /** The file that moves. */
  #now: LiveTransfer | null = null;
  /** Octets of the files that went before it. */
  #before = 0;
  /** Octets of all files that were carried so far. */
  carried = 0;

  constructor(
    private readonly transfers: Transfers,
    private readonly device: DeviceRow,
    private readonly image: ImageRow,
    private readonly tell: { readonly octets: (all: number) => void; readonly begun: (one: LiveTransfer) => void },
  ) {}

  readonly onPushed = (file: CarriedFile, octets: number): void => {
    const { transfers, device, image } = this;
    if (this.#now?.row.file !== file.name) {
      if (this.#now) this.#before += this.#now.row.totalBytes;
      this.whole();
      this.#now = transfers.begin({
        device,
        site: device.site,
        protocol: 'push',
        peer: device.address,
        file: file.name,
        image: image.sha256,
        totalBytes: file.bytes,
        askedOptions: {},
      });
      this.all.push(this.#now);
      this.tell.begun(this.#now);
    }
    transfers.progress(this.#now, octets);
    this.carried = this.#before + octets;
    this.tell.octets(this.carried);
  };

  /** The file that moves has come whole. */
  whole(): void {
    if (this.#now?.row.state === 'moving') this.transfers.end(this.#now, 'done', 'whole');
  }

  broken(cause: CauseError): void {
    if (this.#now?.row.state !== 'moving') return;
    Object.assign(this.#now.row, { cause: cause.code, evidence: [cause.detail] });
    this.transfers.end(this.#now, 'broken', safeText(cause.detail, 300));
  }

  /** Whatever still moves does so no more. */
  end(stopped: boolean): void {
    if (this.#now?.row.state === 'moving') this.transfers.end(this.#now, 'broken', stopped ? 'stopped' : 'it did not come to its end');
  }
}
