import { chmodSync, existsSync, mkdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { serve, type ServerType } from '@hono/node-server';
import { pino } from 'pino';
import { FamilyFileError, loadFamilyFiles, shippedFamilies } from '@barrow/families';
import { SnmpClient } from '@barrow/wire';
import { rfc3339, type Context, type ServiceOptions } from './context.js';
import { Database } from './data/database.js';
import { dropOldest } from './data/keeping.js';
import { Sealer } from './data/seal.js';
import { Approvals } from './devices/approvals.js';
import { Proven } from './devices/proven.js';
import { Recordings } from './devices/recordings.js';
import { ByHand } from './devices/by-hand.js';
import { Devices } from './devices/devices.js';
import { FamilyFiles } from './devices/family-files.js';
import { DeviceLists } from './devices/lists.js';
import { DiscoveryService } from './discovery/discovery.js';
import { StartFailure } from './errors.js';
import { makeApp } from './http/app.js';
import { Tokens } from './http/auth.js';
import { Advisories } from './advisories/advisories.js';
import { Carrying } from './images/carry.js';
import { Intake } from './images/intake.js';
import { ImageStore } from './images/store.js';
import { Uploads } from './images/uploads.js';
import { ImageViews } from './images/views.js';
import { StandingService } from './standing/summary.js';
import { Live } from './live.js';
import type { Parts } from './parts.js';
import { MapService } from './map/map.js';
import { Appointments } from './runner/appointments.js';
import { Durations } from './runner/durations.js';
import { Backups } from './runner/backups.js';
import { Holdings } from './runner/holdings.js';
import { Journal } from './runner/journal.js';
import { Expected } from './runner/expected.js';
import { Restoring } from './runner/restoring.js';
import { Swapping } from './runner/swapping.js';
import { Notices } from './notices/notices.js';
import { ReportKey } from './report/proof.js';
import { openSheetFolder, Sheets } from './report/sheets.js';
import { Runner } from './runner/runner.js';
import { Doubts } from './touch/doubts.js';
import { CheckFile } from './staging/check-file.js';
import { Offers } from './staging/offers.js';
import { TftpStore } from './staging/tftp-store.js';
import { Deliveries } from './staging/deliveries.js';
import { HttpStore } from './staging/http-store.js';
import { Incoming } from './staging/incoming.js';
import { Sites } from './staging/sites.js';
import { Transfers } from './staging/transfers.js';
import { Watches } from './staging/watch.js';

export interface RunningService {
  readonly url: string;
  readonly tftp: string;
  readonly httpStore: string;
  /** Finishes what must not be cut, parks the rest, and closes everything. */
  stop(): Promise<void>;
}

const version = (JSON.parse(readFileSync(new URL('../package.json', import.meta.url), 'utf8')) as { version: string }).version;

/** How often what is too old is dropped, in milliseconds. */
const tidyEvery = 3_600_000;

/** Starts the service. @throws StartFailure in three parts when it cannot. */
export async function startService(options: ServiceOptions): Promise<RunningService> {
  // What is kept here is full of secrets: nobody else reads it, whatever the umask and whoever made the folder.
  process.umask(0o077);
  mkdirSync(options.dataFolder, { recursive: true, mode: 0o700 });
  for (const folder of [options.dataFolder, ...['images', 'families', 'uploads'].map((name) => join(options.dataFolder, name))])
    if (existsSync(folder) && (statSync(folder).mode & 0o077) !== 0) chmodSync(folder, 0o700);
  const log = pino(
    { level: options.logLevel, redact: ['secret', 'password', 'token', '*.secret', '*.password', '*.token'] },
    pino.destination({ fd: 2, sync: false }),
  );
  const carriedFamilies = join(options.dataFolder, 'families');
  mkdirSync(carriedFamilies, { recursive: true, mode: 0o700 });
  if (options.sheetFolder !== null) openSheetFolder(options.sheetFolder);
  let families;
  try {
    families = loadFamilyFiles([options.familyFolder ?? shippedFamilies], [carriedFamilies]);
    for (const fault of families.skipped) log.warn({ fault }, 'a family file that was carried here is skipped');
  } catch (error) {
    if (error instanceof FamilyFileError)
      throw new StartFailure(
        'family-file',
        'A family file cannot be taken',
        error.message,
        'Mend the lines that are named; `barrow family check FILE` tries one file.',
      );
    throw error;
  }
  const db = await Database.open(options.dataFolder);
  const undo: (() => Promise<void> | void)[] = [() => db.close()];
  try {
    const context: Context = {
      options,
      db,
      sealer: await Sealer.open(join(options.dataFolder, 'key'), db),
      live: new Live(),
      log,
      families: families.families,
      familyTexts: families.texts,
      snmp: new SnmpClient(),
      doubts: new Doubts(options.timeScale),
      receive: null,
    };
    undo.push(() => context.snmp.close());
    db.onTrouble((trouble) => {
      if (trouble) log.error({ why: trouble.detail }, 'nothing can be written; it is tried again until there is room');
      else log.info('what waited to be written is written');
      context.live.changed('health');
      context.live.changed('rollouts');
    });
    const tokens = new Tokens(context);
    await tokens.load();
    const tokenFile = join(options.dataFolder, 'token');
    const writeToken = async (name: string): Promise<void> => {
      rmSync(tokenFile, { force: true });
      writeFileSync(tokenFile, `${(await tokens.add(name, 'admin')).text}\n`, { mode: 0o600, flag: 'wx', flush: true });
    };
    if (tokens.list().length === 0) await writeToken('first admin');
    else if (options.newAdminToken) await writeToken(`admin of this machine, ${rfc3339(Date.now())}`);
    const images = new ImageStore(context);
    const unclaimed = await images.unclaimed();
    if (unclaimed.length > 0)
      log.warn({ contents: unclaimed.slice(0, 20), of: unclaimed.length }, 'contents in the image store that no image has');
    const intake = new Intake(context, images, new Uploads(context));
    const journal = new Journal(context);
    await journal.open();
    const backups = new Backups(context);
    const holdings = new Holdings();
    const runner = new Runner(context, holdings);
    const devices = new Devices(context, (device) => runner.rolloutOf(device));
    const advisories = new Advisories(context, devices);
    const imageViews = new ImageViews(devices, advisories);
    const standing = new StandingService(context, devices);
    const familyFiles = new FamilyFiles(context, carriedFamilies);
    await familyFiles.load();
    const carrying = new Carrying(context, images, intake, familyFiles);
    const sites = new Sites(context);
    await sites.load();
    const transfers = new Transfers(context);
    await transfers.load();
    const checkFile = new CheckFile(options.dataFolder);
    const offers = new Offers(context, sites, () => ({ tftp: tftp.port, http: httpStore.port, secure: httpStore.secure }));
    const tftp: TftpStore = new TftpStore(context, {
      offers,
      sites,
      transfers,
      images,
      check: checkFile,
      incoming: () => incoming,
    });
    const httpStore: HttpStore = new HttpStore(context, { offers, sites, transfers, images, check: checkFile });
    const watches = new Watches(context, transfers, offers, { tftp, http: httpStore });
    const incoming: Incoming = new Incoming(context, offers, watches);
    context.receive = (device, family) => incoming.open(device, family);
    await offers.load();
    // They open while the rest is read, which takes longer.
    const opening = [tftp.start(), httpStore.start()];
    undo.push(async () => {
      await Promise.allSettled(opening);
      await tftp.stop();
      await httpStore.stop();
    });
    const stores = Promise.all(opening);
    stores.catch(() => undefined);
    const map = new MapService(context);
    const deliveries = new Deliveries(context, {
      map,
      holdings,
      devices,
      images,
      offers,
      sites,
      transfers,
      watches,
      rolloutOf: (device) => runner.rolloutOf(device),
      neededBy: (sha256) => runner.neededBy(sha256),
      storeLogin: httpStore.login,
    });
    await deliveries.load();
    const discovery = new DiscoveryService(context);
    const byHand = new ByHand(context, devices);
    const lists = new DeviceLists(devices, byHand);
    const approvals = new Approvals(context);
    const restoring = new Restoring({ context, backups, holdings, map, rolloutOf: (device) => runner.rolloutOf(device) });
    const stopping = new AbortController();
    const swapping = new Swapping({ context, backups, restoring, signal: stopping.signal });
    const durations = new Durations(context);
    const appointments = new Appointments(context, runner);
    await appointments.load();
    runner.beginsBy((id) => appointments.of(id));
    const sheets = new Sheets(
      context,
      sites,
      () => [
        ...options.tftpListen.host.split(',').map((host) => `tftp://${host}:${tftp.port}`),
        `http${httpStore.secure ? 's' : ''}://${options.httpStoreListen.host}:${httpStore.port}`,
      ],
      map,
    );
    runner.onHappened((active) => sheets.touch(active));
    const notices = new Notices(context, runner, journal, (active) => sheets.page(active));
    await notices.load();
    const proven = new Proven(context, familyFiles);
    await proven.load();
    runner.onEntry((active, entry) => {
      notices.heed(active, entry);
      proven.heed(active, entry.event);
    });
    const recordings = new Recordings(context, { devices, rolloutOf: (device) => runner.rolloutOf(device) });
    undo.push(() => recordings.stop());
    const parts: Parts = {
      context,
      expected: new Expected(context, journal),
      restoring,
      swapping,
      version,
      startedAt: Date.now(),
      tokens,
      devices,
      map,
      byHand,
      approvals,
      lists,
      discovery,
      images,
      intake,
      imageViews,
      carrying,
      advisories,
      standing,
      offers,
      checkFile,
      tftp,
      httpStore,
      transfers,
      watches,
      sites,
      deliveries,
      backups,
      journal,
      runner,
      sheets,
      appointments,
      familyFiles,
      notices,
      recordings,
      proven,
      reportKey: await ReportKey.open(context),
      durations,
    };
    runner.use({ ...parts, map });

    // Before anybody is answered, everything is as the journals say; nothing is begun before the port is ours.
    await runner.load();
    await stores;
    const closing = new AbortController();
    const app = makeApp(parts, closing.signal);
    const server = await listen(app, options);
    const { port } = server.address() as AddressInfo;
    const { host } = options.listen;
    const url = `http://${host.includes(':') ? `[${host}]` : host}:${port}`;
    await runner.resume();
    deliveries.resume();
    appointments.resume();
    await notices.resume(url);
    const tidy = (): void =>
      void dropOldest(db).then(
        (dropped) => Object.keys(dropped).length > 0 && log.info({ dropped }, 'what was older than is kept is dropped'),
        (error: unknown) => log.warn({ error }, 'what is older than is kept could not be dropped; it is tried again'),
      );
    const tidyBackups = (): void =>
      void backups.dropOld().then(
        (dropped) => dropped > 0 && log.info({ dropped }, 'backups older than they are kept are dropped'),
        (error: unknown) => log.warn({ error }, 'old backups could not be dropped; it is tried again'),
      );
    tidy();
    tidyBackups();
    const tidying = setInterval(() => (tidy(), tidyBackups()), tidyEvery);
    log.info({ url, tftp: `${options.tftpListen.host}:${tftp.port}`, data: options.dataFolder }, 'ready');
    return {
      url,
      tftp: `${options.tftpListen.host}:${tftp.port}`,
      httpStore: `${options.httpStoreListen.host}:${httpStore.port}`,
      async stop() {
        clearInterval(tidying);
        stopping.abort();
        appointments.stop();
        recordings.stop();
        await discovery.stop();
        await deliveries.stop();
        await runner.stop();
        await notices.stop();
        await durations.write();
        sheets.close();
        watches.stop();
        closing.abort();
        await tftp.stop();
        await httpStore.stop();
        await new Promise<void>((resolve) => {
          server.close(() => resolve());
          (server as Server).closeAllConnections();
        });
        context.snmp.close();
        await db.close();
        log.info('stopped');
        log.flush();
      },
    };
  } catch (error) {
    for (const step of undo.reverse()) await step();
    throw error;
  }
}

/** How long a connection on which nothing is asked is kept, in milliseconds; whoever asks is told (Keep-Alive, RFC 2068 §19.7.1.1). */
const idleMs = 75_000;

function listen(app: { fetch: (request: Request) => Response | Promise<Response> }, options: ServiceOptions): Promise<ServerType> {
  return new Promise((resolve, reject) => {
    const { host, port } = options.listen;
    // A connection that is closed in the moment in which it is used again breaks the request: whoever is late by seconds has time for it.
    const serverOptions = { keepAliveTimeout: idleMs };
    const server = serve({ fetch: app.fetch as never, hostname: host, port, serverOptions }, () => resolve(server));
    server.on('error', (error: NodeJS.ErrnoException) =>
      reject(
        error.code === 'EADDRINUSE' || error.code === 'EACCES' || error.code === 'EADDRNOTAVAIL'
          ? new StartFailure(
              'port-in-use',
              'The service cannot listen',
              `${host}:${port}: ${error.code === 'EADDRINUSE' ? 'another program has this port' : error.code}.`,
              'Stop the other program, or choose another address with --listen HOST:PORT.',
            )
          : error,
      ),
    );
  });
}
