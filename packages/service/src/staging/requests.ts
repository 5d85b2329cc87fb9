import { pattern } from '@barrow/core';
import type { TftpPeer } from '@barrow/wire';
import type { Offered, Offers } from './offers.js';
import type { Transfers, TransferStart } from './transfers.js';

/** What a request at a store is, before anything of it moved. */
export function startOf(
  protocol: TransferStart['protocol'],
  peer: TftpPeer,
  file: string,
  askedOptions: Readonly<Record<string, string>>,
  device: { readonly id: string; readonly name: string; readonly site: string } | null,
): TransferStart {
  return {
    device,
    site: device?.site ?? null,
    protocol,
    peer: `${peer.address}:${peer.port}`,
    file,
    image: null,
    totalBytes: 0,
    askedOptions,
  };
}

export const startOfOffered = (start: TransferStart, { image, file }: Offered): TransferStart => ({
  ...start,
  image: image.sha256,
  totalBytes: file.bytes,
});

/** Writes a request down that gets nothing; a file that devices of its family ask for by habit is no fault, and no line. */
export function turnAway(
  offers: Offers,
  transfers: Transfers,
  start: TransferStart,
  peer: TftpPeer,
): { readonly known: boolean; readonly why: string } {
  const told = offers.whyNot(peer.address, start.file);
  const device = offers.deviceAt(peer.address);
  const habit = device !== null && offers.isHabit(device, start.file, (source, name) => pattern(source).matcher(name).find());
  if (!habit) transfers.refused(start, told.why);
  return told;
}
