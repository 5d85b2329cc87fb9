import { describeRange, fits, type Image, type ImageDetail, type PathImage } from '@barrow/core';
import type { Advisories } from '../advisories/advisories.js';
import { rfc3339 } from '../context.js';
import type { ImageRow } from '../data/entities.js';
import type { Devices, KnownDevice } from '../devices/devices.js';
import { pathImageOf } from './rows.js';

const mostNames = 6;

/** Images as they are shown: who may run them, who does, whom they take onward, what they mend and break. */
export class ImageViews {
  constructor(
    private readonly devices: Devices,
    private readonly advisories: Advisories,
  ) {}

  async list(rows: readonly ImageRow[]): Promise<Image[]> {
    const all = await this.devices.all();
    // Devices of one hardware and version count together, so that this stays linear in images and in devices.
    const groups = new Map<string, { one: KnownDevice; count: number }>();
    const passing = new Map<string, number>();
    for (const known of all) {
      if (known.row.family === null) continue;
      const key = JSON.stringify([known.state.hardware, known.row.firmware, known.row.bootLoader]);
      const group = groups.get(key);
      if (group) group.count++;
      else groups.set(key, { one: known, count: 1 });
      for (const step of known.standing.path?.steps ?? [])
        if (step.on === null) passing.set(step.image.sha256, (passing.get(step.image.sha256) ?? 0) + 1);
    }
    const byFamily = new Map<string, { one: KnownDevice; count: number }[]>();
    for (const group of groups.values()) {
      const family = group.one.row.family!;
      byFamily.set(family, [...(byFamily.get(family) ?? []), group]);
    }
    return rows.map((row) => {
      const image = pathImageOf(row);
      let [may, runs] = [0, 0];
      for (const { one, count } of byFamily.get(row.family) ?? []) {
        if (fits(image, one.state.hardware)) may += count;
        if (this.devices.runs(one, image)) runs += count;
      }
      return { ...this.#plain(row), fits: may, runs, onPaths: passing.get(row.sha256) ?? 0 };
    });
  }

  #plain(row: ImageRow): Omit<Image, 'fits' | 'runs' | 'onPaths'> {
    const { sha256, file, files, family, maker, models, hardwareRevisions, variant, version, bytes, addedBy, note } = row;
    const { component, channel, withdrawn } = note;
    return {
      sha256,
      file,
      files,
      family,
      maker,
      models,
      hardwareRevisions,
      variant,
      version,
      component,
      channel,
      withdrawn,
      bytes,
      addedBy,
      addedAt: rfc3339(row.addedAt),
      compared: row.compared,
    };
  }

  async detail(row: ImageRow): Promise<ImageDetail> {
    const [view] = await this.list([row]);
    const image = pathImageOf(row);
    const all = await this.devices.all();
    return {
      ...view!,
      note: row.note,
      read: row.read.map(({ by, at }) => ({ by, at: rfc3339(at) })),
      fixes: await Promise.all(
        row.note.fixes.map((text) =>
          this.advisories.mention(text, ({ row: d, state }) => d.family === image.family && fits(image, state.hardware)),
        ),
      ),
      breaks: breaksOf(image, all),
    };
  }
}

/** What is lost by an image, and by whom: those that would pass it, and the children that its device would no longer serve. */
function breaksOf(image: PathImage, all: readonly KnownDevice[]): ImageDetail['breaks'] {
  const passing = all.flatMap((known) => {
    const step = known.standing.path?.steps.find((s) => s.on === null && s.image.sha256 === image.sha256);
    return step ? [{ known, step }] : [];
  });
  const entry = (text: string, of: readonly KnownDevice[]): ImageDetail['breaks'][number] => ({
    text,
    devices: of.length,
    names: of.slice(0, mostNames).map((d) => d.row.name),
  });
  const found: ImageDetail['breaks'] = [];
  for (const { what, from } of image.resets) {
    const hit = passing.filter((p) => p.step.resets.includes(what)).map((p) => p.known);
    found.push(entry(`${what} are reset${from ? ` when coming from ${describeRange(from)}` : ''}`, hit));
  }
  for (const { what, family, models } of image.drops) {
    const parents = new Set(all.filter((d) => fits(image, d.state.hardware) && d.row.family === image.family).map((d) => d.row.id));
    const hit = family
      ? all.filter(
          ({ row }) =>
            row.family === family &&
            (!models || (row.model !== null && models.includes(row.model))) &&
            row.parent !== null &&
            parents.has(row.parent),
        )
      : passing.map((p) => p.known);
    found.push(entry(`no ${what} afterwards${models ? `: ${models.join(', ')}` : ''}`, hit));
  }
  return found;
}
