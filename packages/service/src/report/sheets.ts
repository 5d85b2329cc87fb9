import { currentStep, legsOf, passageOf } from '@barrow/core';
import { mkdirSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Context } from '../context.js';
import { BackupEntity, DeviceEntity, ImageEntity } from '../data/entities.js';
import { StartFailure } from '../errors.js';
import type { ActiveRollout } from '../runner/active.js';
import { traceOf } from '../runner/trail.js';
import type { MapService } from '../map/map.js';
import type { Sites } from '../staging/sites.js';
import { steadyNow } from '../steady.js';
import { sitePage } from './at-site.js';
import { sheetPage, type SheetFacts } from './sheet.js';

/** A sheet is written so long after something happened, and takes at most one part in twenty of the time. */
const soonMs = 1000;

/** Makes the folder for the sheets, and tries whether anything can be put there. @throws StartFailure when it cannot */
export function openSheetFolder(folder: string): void {
  const trial = join(folder, '.trial');
  try {
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    writeFileSync(trial, '');
    rmSync(trial);
  } catch (error) {
    throw new StartFailure(
      'sheet-folder',
      'The night sheets cannot be written',
      `${folder}: ${(error as NodeJS.ErrnoException).code ?? String(error)}.`,
      'Name a folder that this user may write into with --sheets, or leave it out.',
    );
  }
}

/** Night sheets: for who asks, and into a folder after every change, for the night in which this machine dies. */
export class Sheets {
  readonly #due = new Map<string, NodeJS.Timeout>();
  #tookMs = 0;

  constructor(
    private readonly context: Context,
    private readonly sites: Sites,
    private readonly stores: () => readonly string[],
    private readonly map: MapService,
  ) {}

  async page(active: ActiveRollout): Promise<string> {
    const images = await this.context.db.find(ImageEntity, {}, { fields: ['sha256', 'file'] });
    const devices = await this.context.db.find(DeviceEntity, {}, { fields: ['id', 'name', 'told'] });
    const nameOf = new Map(devices.map((d) => [d.id, d.name]));
    const consoles = new Map(
      devices.flatMap(({ id, told }) =>
        told?.console ? [[id, `${nameOf.get(told.console.device) ?? '?'} ${told.console.port ?? ''}`.trim()] as const] : [],
      ),
    );
    const facts: SheetFacts = {
      consoles,
      contacts: new Map([...new Set(active.plan.runs.map((r) => r.site))].map((site) => [site, this.sites.get(site).contact])),
      files: new Map(images.map((i) => [i.sha256, i.file])),
      stores: this.stores(),
      madeAt: steadyNow(),
    };
    return sheetPage(active, facts);
  }

  /** The page for who stands before one device of it. */
  async atSite(active: ActiveRollout, run: string): Promise<string> {
    const { plan, state } = active;
    const { db, options } = this.context;
    const index = state.indexOf.get(run)!;
    const planned = plan.runs[index]!;
    const now = state.runs[index]!;
    const device = await db.findOne(DeviceEntity, { id: planned.device });
    if (!device) throw new Error(`${planned.name} is no longer known`);
    const { links, feeds, dark } = await this.map.around(device.id);
    const backup = await db.findOne(BackupEntity, { device: device.id, rollout: plan.id }, { orderBy: { takenAt: 'asc' } });
    const way = active.familyOf(planned.family)?.ways.find((w) => w.name === legsOf(plan, planned).at(-1)!.way);
    const trail = await active.trails.of(run);
    const restarted = traceOf(trail, 'reboot', now.legs)?.begunAt ?? now.stepBegunAt ?? now.enteredAt;
    const { console } = device.told ?? {};
    const on = console ? await db.findOne(DeviceEntity, { id: console.device }) : null;
    const at = (port: string | null, name: string): string => (port === null ? name : `${port} of ${name}`);
    return sitePage(active, run, {
      device,
      name: planned.name,
      serial: planned.serial,
      model: [device.maker, device.model].filter(Boolean).join(' ') || null,
      cause: now.cause,
      now: steadyNow(),
      writesUntil:
        now.pastReturn && restarted !== null && way?.writeLimit !== undefined ? restarted + way.writeLimit / options.timeScale : null,
      startsWithin: way?.returns.within ?? 600_000,
      // What hangs on it goes dark with it; what it hangs on does not.
      hangsOn: links
        .map(({ a, b }) => (a.device === device.id ? b : a))
        .filter((end) => !dark.some((d) => d.device === end.device))
        .map((end) => at(end.port, end.name)),
      poweredBy: feeds.filter((f) => f.to.device === device.id).map(({ from }) => at(from.port, from.name)),
      alsoDark: dark.filter((d) => d.why === 'power').map((d) => d.name),
      console: console ? at(console.port, on?.name ?? console.device) : null,
      backup: backup?.id ?? null,
      firmware: planned.from,
      target: planned.target,
      tell: state.startedBy ?? plan.createdBy,
      contact: this.sites.get(device.site).contact,
      step: now.outcome === null ? currentStep(state, index).step : (passageOf(plan, planned).steps[now.step]?.step ?? ''),
      stepAt: now.stepBegunAt ?? now.enteredAt,
    });
  }

  /** Something happened in a rollout: its sheet is written anew, once for all that comes in the next moment. */
  touch(active: ActiveRollout): void {
    const { id } = active.plan;
    if (this.context.options.sheetFolder === null || this.#due.has(id)) return;
    const timer = setTimeout(() => void this.#write(active), Math.max(soonMs, 20 * this.#tookMs));
    timer.unref();
    this.#due.set(id, timer);
  }

  /** Nothing more is written; what was due is as old as the last stretch. */
  close(): void {
    for (const timer of this.#due.values()) clearTimeout(timer);
    this.#due.clear();
  }

  async #write(active: ActiveRollout): Promise<void> {
    const { id } = active.plan;
    this.#due.delete(id);
    const path = join(this.context.options.sheetFolder!, `${id}.html`);
    try {
      const from = performance.now();
      const page = await this.page(active);
      // Whoever reads it meanwhile sees the one before, whole.
      writeFileSync(`${path}.part`, page, { mode: 0o600 });
      renameSync(`${path}.part`, path);
      this.#tookMs = performance.now() - from;
    } catch (error) {
      this.context.log.error({ error, path }, 'a night sheet could not be written');
    }
  }
}
