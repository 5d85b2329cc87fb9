import { CauseError, safeText, type ComparedBy, type DeliveryPlan } from '@barrow/core';
import { asCause, type CarriedFile, type Family, type ProcedureName, type ProcedureResult } from '@barrow/families';
import type { Context } from '../context.js';
import { DeviceEntity, ImageEntity, type DeliveryRow, type DeviceRow, type ImageRow } from '../data/entities.js';
import { setArmed } from './armed.js';
import type { DeliveryBook, DeliveryParts } from './delivery-parts.js';
import type { Use as TouchUse } from '../touch/procedure.js';
import { once, Touch } from '../touch/touch.js';
import { fillSiteStore } from './site-store.js';
import { toldFor, toldValues } from './told.js';
import { Pushes } from './pushes.js';
import { compareWithHeld } from '../images/held.js';
import { markCompared, markDiffers } from './watch.js';

/** What carrying out one delivery works with. */
export interface DeliveryWork {
  readonly context: Context;
  readonly parts: DeliveryParts;
  readonly deliveries: DeliveryBook;
  readonly row: DeliveryRow;
  readonly signal: AbortSignal;
  readonly state: (state: DeliveryRow['state']) => void;
  readonly progress: (bytes: number) => void;
}

/** What a storage says it holds. */
interface Held {
  readonly file: string;
  readonly bytes: number | null;
  readonly sha256: string | null;
  readonly use: string;
  readonly removable: boolean;
}

/** How it was brought: the digest that was told there, and by what it was compared. */
export interface Brought {
  readonly digest: string | null;
  readonly comparedBy: ComparedBy;
}

/** Brings the image there and has its digest checked there. @throws CauseError */
export async function carryOut(work: DeliveryWork): Promise<Brought> {
  const { parts, row } = work;
  const image = await parts.images.get(row.image).catch(() => {
    throw new CauseError('image-missing', `image ${row.image.slice(0, 12)}… is no longer in the store`);
  });
  if (image.note.withdrawn) throw new CauseError('image-withdrawn', `${image.file}: ${image.note.withdrawn.why}`);
  if (!(await parts.images.isSound(image))) throw new CauseError('image-missing', `${image.file} no longer has its digest`);
  return row.place === 'site-store' ? toSiteStore(work, image) : toHolder(work, image);
}

const filesOf = (work: DeliveryWork, image: ImageRow, nameOf: (file: { file: string }) => string): CarriedFile[] =>
  image.files.map((f) => ({ name: nameOf(f), path: work.parts.images.pathOf(f.sha256), bytes: f.bytes, sha256: f.sha256 }));

async function toSiteStore(work: DeliveryWork, image: ImageRow): Promise<Brought> {
  const { context, parts, row, signal } = work;
  const { transfers, sites, offers } = parts;
  const devices = await context.db.find(DeviceEntity, { id: { $in: row.devices } });
  const files = filesOf(work, image, (f) => offers.nameFor(image, f, devices[0] ?? { family: image.family, model: null, variant: null }));
  let before = 0;
  let digest: string | null = null;
  for (const file of files) {
    const one = transfers.begin({
      device: null,
      site: row.site,
      protocol: 'push',
      peer: `store of ${row.site}`,
      file: file.name,
      image: image.sha256,
      totalBytes: file.bytes,
      askedOptions: {},
    });
    row.transfers = [one.row.id, ...row.transfers];
    try {
      const found = await fillSiteStore(context, sites, row.site, file, {
        link: sites.linkOf(row.site),
        signal,
        onSent: (octets) => {
          transfers.progress(one, octets);
          work.progress(before + octets);
        },
        onVerify: () => work.state('verifying'),
      });
      digest = found.digest;
      Object.assign(one.row, { verified: true, comparedBy: 'digest' });
      const checked = found.how === 'told' ? 'the store told its digest' : 'its digest was read back';
      transfers.end(one, 'done', found.wasThere ? `it was there already; ${checked}` : `whole; ${checked}`);
    } catch (error) {
      const cause = asCause(error);
      if (cause instanceof CauseError) Object.assign(one.row, { cause: cause.code, evidence: [cause.detail] });
      transfers.end(one, 'broken', signal.aborted ? 'stopped' : cause.message);
      throw cause;
    }
    before += file.bytes;
    work.progress(before);
  }
  return { digest, comparedBy: 'digest' };
}

/** Stages on a device, or on the parent that keeps images for its children. */
async function toHolder(work: DeliveryWork, image: ImageRow): Promise<Brought> {
  const { context, parts, row, signal } = work;
  const holder = await context.db.findOne(DeviceEntity, { id: row.holder });
  const family = context.families.get(holder?.family ?? '');
  if (!holder || !family?.staging)
    throw new CauseError('service-fault', 'who was to hold it is no longer known, or its family keeps no images');
  const rollout = parts.rolloutOf(holder.id);
  if (rollout !== null) throw new CauseError('device-busy', `${holder.name} is in the rollout ${rollout}`);
  const touch = new Touch(context, holder, family);
  const use = await useFor(work, image, holder, family);
  try {
    const seen = await look(touch, family, use.told);
    const there = seen !== null && holdsAll(seen.held, image);
    if (!there) {
      if (family.procedures.ready) await ask(touch, 'ready', use.told);
      await makeRoom(work, touch, use.told, holder, image, seen);
      use.watch?.needStore();
      await stage(work, touch, use, family);
    } else use.watch?.forget();
    work.state('verifying');
    // Who has the last octet may say so before we have heard that it has: one that still moves is compared as well.
    const moved = [...use.pushes.all, ...(use.watch ? [use.watch.last] : [])].filter((one) => ['done', 'moving'].includes(one.row.state));
    const verified = await verify(work, touch, family, use, image).catch(async (error: unknown) => {
      const cause = asCause(error);
      if (cause instanceof CauseError && cause.code === 'image-damaged') for (const one of moved) markDiffers(parts.transfers, one);
      if (cause instanceof CauseError && use.watch) throw await use.watch.conclude(cause);
      throw cause;
    });
    for (const one of moved) markCompared(parts.transfers, one, verified.comparedBy);
    work.progress(image.bytes);
    if (family.staging.arms && row.place === 'device') await setArmed(context, holder.id, image.version, row.createdBy);
    return verified;
  } finally {
    use.watch?.end();
    use.pushes.end(signal.aborted);
    if (use.watch) parts.offers.withdraw(image, holder, row.id);
  }
}

/** One question or act; between two of them the device is let go. */
async function ask(touch: Touch, name: ProcedureName, use: TouchUse): Promise<ProcedureResult> {
  try {
    return await touch.run(name, use);
  } finally {
    touch.close();
  }
}

interface Use {
  readonly told: TouchUse;
  readonly watch: ReturnType<DeliveryParts['watches']['begin']> | null;
  readonly pushes: Pushes;
}

/** What the procedures are given: names, digests, where to fetch from; and what watches the transfer. */
async function useFor(work: DeliveryWork, image: ImageRow, holder: DeviceRow, family: Family): Promise<Use> {
  const { parts, deliveries, row, signal } = work;
  const { offers, sites, transfers, watches } = parts;
  const by = family.staging!.by;
  const files = filesOf(work, image, (f) => offers.nameFor(image, f, holder));
  const context = { context: work.context, offers, deliveries };
  let watch: Use['watch'] = null;
  const [offered] = by === 'push' ? [] : offers.offer(image, holder, row.id);
  const given = await toldValues(context, holder, image);
  if (offered) {
    const { told, protocol, bySite } = await toldFor(context, holder, image);
    // What moves from the store of a site, Barrow does not see.
    const reach = family.procedures.reach
      ? async () => (await once(work.context, holder, family, 'reach', { given, signal })).gives['reached'] === 'yes'
      : null;
    if (!bySite)
      watch = watches.begin({
        device: holder,
        image,
        bytes: offered.file.bytes,
        fetchesFrom: offered.device.fetchesFrom,
        told,
        protocol,
        reach,
      });
  }
  const pushes = new Pushes(transfers, holder, image, {
    octets: (all) => work.progress(all),
    begun: (one) => (row.transfers = [one.row.id, ...row.transfers]),
  });
  return {
    watch,
    pushes,
    told: {
      given,
      files: by === 'push' ? files : [],
      link: sites.linkOf(holder.site),
      signal,
      onPercent: (percent) => work.progress(Math.floor((image.bytes * Math.min(100, percent)) / 100)),
      onPushed: pushes.onPushed,
    },
  };
}

/** What the storage holds; null when the family cannot tell. */
async function look(touch: Touch, family: Family, use: TouchUse): Promise<{ freeBytes: number | null; held: Held[] } | null> {
  if (!family.procedures.storage) return null;
  const { gives, tables } = await ask(touch, 'storage', { ...use, onPercent: () => undefined });
  const number = (text: string | undefined): number | null => (text !== undefined && /^\d+$/.test(text) ? Number(text) : null);
  return {
    freeBytes: number(gives['freeBytes']),
    held: (tables['files'] ?? []).map((f) => ({
      file: f['file'] ?? '',
      bytes: number(f['bytes']),
      sha256: /^[0-9a-f]{64}$/.test(f['sha256'] ?? '') ? f['sha256']! : null,
      use: f['use'] ?? '',
      removable: f['use'] === f['removableWhen'],
    })),
  };
}

const holdsAll = (held: readonly Held[], image: ImageRow): boolean =>
  image.files.every((file) => held.some((h) => h.sha256 === file.sha256));

/** What may be removed for it, largest first, until there is room; null when it cannot be made. */
async function toRemove(
  work: DeliveryWork,
  family: Family,
  seen: { freeBytes: number | null; held: Held[] },
  bytes: number,
): Promise<Held[] | null> {
  let free = seen.freeBytes ?? Infinity;
  if (free >= bytes) return [];
  if (!family.procedures['remove-staged']) return null;
  const { context, deliveries, parts, row } = work;
  // A file may be one of several of a release.
  const imagesOf = new Map<string, string[]>();
  for (const image of await context.db.find(ImageEntity, {}, { fields: ['sha256', 'files'] }))
    for (const file of image.files) imagesOf.set(file.sha256, [...(imagesOf.get(file.sha256) ?? []), image.sha256]);
  const counted = (sha256: string): boolean =>
    [sha256, ...(imagesOf.get(sha256) ?? [])].some(
      (one) => deliveries.needs(one, row.id) || parts.offers.wants(one) || parts.neededBy(one) !== null,
    );
  const unneeded = seen.held.filter(
    (h) =>
      h.removable &&
      // Never the running one, which its family calls otherwise; and nothing that somebody counts on.
      (h.sha256 === null || !counted(h.sha256)),
  );
  const gone: Held[] = [];
  for (const held of unneeded.sort((a, b) => (b.bytes ?? 0) - (a.bytes ?? 0))) {
    if (free >= bytes) break;
    gone.push(held);
    free += held.bytes ?? 0;
  }
  return free >= bytes ? gone : null;
}

async function makeRoom(
  work: DeliveryWork,
  touch: Touch,
  use: TouchUse,
  holder: DeviceRow,
  image: ImageRow,
  seen: { freeBytes: number | null; held: Held[] } | null,
): Promise<void> {
  if (seen?.freeBytes == null || seen.freeBytes >= image.bytes) return;
  const family = work.context.families.get(holder.family!)!;
  const gone = await toRemove(work, family, seen, image.bytes);
  const short = `${holder.name} has ${seen.freeBytes} octets free, ${image.file} has ${image.bytes}`;
  if (gone === null) throw new CauseError('no-space', `${short}; nothing there may be removed for it`);
  if (!work.row.makeRoom)
    throw new CauseError('no-space', `${short}; removing ${gone.map((g) => g.file).join(', ')} would make room, which --make-room allows`);
  for (const held of gone) {
    await ask(touch, 'remove-staged', { ...use, given: { ...use.given, removeFile: held.file } });
    work.row.removed = [...work.row.removed, held.file];
  }
}

async function stage(work: DeliveryWork, touch: Touch, use: Use, family: Family): Promise<void> {
  const { row } = work;
  const name: ProcedureName = family.procedures.stage ? 'stage' : 'transfer';
  try {
    const { gives } = await ask(touch, name, use.told);
    if (gives['wasThere'] === 'yes') use.watch?.forget();
    use.pushes.whole();
  } catch (error) {
    const cause = asCause(error);
    if (!(cause instanceof CauseError)) throw cause;
    const found = use.watch && !work.signal.aborted ? await use.watch.conclude(cause) : cause;
    use.pushes.broken(found);
    throw found;
  } finally {
    // Newest first, as all lists are.
    if (use.watch)
      row.transfers = [
        ...use.watch
          .moves()
          .map((m) => m.row.id)
          .reverse(),
        ...row.transfers,
      ];
  }
}

/** Has the holder check what it took, and compares what it tells. */
async function verify(work: DeliveryWork, touch: Touch, family: Family, use: Use, image: ImageRow): Promise<Brought> {
  const name: ProcedureName = family.procedures['verify-staged'] ? 'verify-staged' : 'verify-image';
  const { gives } = await ask(touch, name, use.told);
  const comparedBy = await compareWithHeld(work.parts.images, image, family.procedures[name]!, gives);
  return { digest: gives['digest'] ?? null, comparedBy };
}

/** What a delivery would find and do; the holder is asked now, and nothing is changed. */
export async function planDelivery(
  context: Context,
  parts: DeliveryParts,
  deliveries: DeliveryBook,
  image: ImageRow,
  group: { holder: DeviceRow | null; site: string; devices: DeviceRow[] },
  signal: AbortSignal,
): Promise<DeliveryPlan['items'][number]> {
  const { holder, site, devices } = group;
  const link = parts.sites.linkOf(site);
  const item: DeliveryPlan['items'][number] = {
    holder: holder?.name ?? `store of ${site}`,
    devices: devices.map((d) => d.name),
    totalBytes: image.bytes,
    freeBytes: null,
    holds: [],
    alreadyThere: false,
    wouldRemove: [],
    fits: null,
    seconds: link ? Math.ceil(image.bytes / link.octetsPerSecond) : null,
    arms: false,
    problem: null,
  };
  const family = context.families.get(holder?.family ?? '');
  if (!holder || !family) return item;
  item.arms = family.staging?.arms === true && holder.id === devices[0]?.id;
  try {
    const given = { imageBytes: String(image.bytes), imageFile: parts.offers.nameFor(image, image.files[0]!, holder) };
    const seen = await look(new Touch(context, holder, family), family, { given, signal });
    if (!seen) return item;
    item.freeBytes = seen.freeBytes;
    item.holds = seen.held.map(({ file, bytes, use, removable }) => ({ file, bytes, use, removable }));
    item.alreadyThere = holdsAll(seen.held, image);
    const row = { id: '', image: image.sha256 } as DeliveryRow;
    const gone = await toRemove({ context, parts, deliveries, row } as DeliveryWork, family, seen, image.bytes);
    item.fits = item.alreadyThere || gone?.length === 0;
    item.wouldRemove = item.alreadyThere ? [] : (gone ?? []).map((g) => g.file);
    if (gone === null && !item.alreadyThere) item.problem = 'there is not enough space, and nothing may be removed';
  } catch (error) {
    const cause = asCause(error);
    if (!(cause instanceof CauseError)) throw cause;
    item.problem = `${cause.code}: ${safeText(cause.detail, 300)}`;
  }
  return item;
}
