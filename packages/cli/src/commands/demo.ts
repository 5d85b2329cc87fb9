import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, relative, resolve } from 'node:path';
import { collect, type Register } from '../context.js';
import { connect } from '../connect.js';
import { CommandError, exit } from '../errors.js';
import { makeColours, print } from '../output.js';
import { defaultHttpStore, defaultTftp, startHere, untilStopped } from './serve.js';

interface DemoOptions {
  folder: string;
  listen: string;
  tftpListen: string;
  httpStoreListen: string;
  scale: string;
  fault: string[];
  bare?: boolean;
  fresh?: boolean;
  walkthrough?: boolean;
  friday?: boolean;
  controlPort: string;
  log: string;
}

/** Data that a running demo uses are not deleted. @throws CommandError */
function refuseRunning(data: string): void {
  let pid: number;
  try {
    pid = Number(readFileSync(join(data, 'pid'), 'utf8').trim());
    process.kill(pid, 0);
    // The number may belong to another program by now.
    if (!readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes('serve')) return;
  } catch {
    return;
  }
  throw new CommandError(
    exit.refused,
    'demo-running',
    'The demo was not started',
    `A demo with these data is running (process ${pid}). Nothing was deleted.`,
    'Stop it first (Ctrl-C in its terminal), or use another folder: --folder.',
  );
}

export const registerDemo: Register = (program, act) => {
  program
    .command('demo')
    .description('service, simulated fleet and demo data together, on loopback only')
    .option('--folder <folder>', 'where the demo keeps its data', '.barrow-demo')
    .option('--listen <host:port>', 'where the console and the HTTP interface listen', '127.0.0.1:8470')
    .option('--tftp-listen <host:port>', 'where the TFTP store listens', defaultTftp)
    .option('--http-store-listen <host:port>', 'where the HTTP store listens', defaultHttpStore)
    .option('--scale <n>', "how much faster the devices' time runs", '20')
    .option('--fault <device=fault>', 'switch a fault on, e.g. eelgate-sw-2=never-returns; may repeat', collect, [])
    .option('--bare', 'networks and credentials only: discover, add and set by hand')
    .option('--fresh', 'forget what an earlier demo kept')
    .option('--walkthrough', 'play the whole journey in this terminal on fresh data, and end')
    .option('--friday', 'play a whole Friday night on fresh data: five waves, five things that go wrong; leave its report, and end')
    .option('--control-port <port>', 'where the fleet tells what truly happened, and takes faults (0: any)', '8471')
    .option('--log <level>', 'what the service logs to standard error', 'warn')
    .action(
      act(async ({ say, run }, o: DemoOptions) => {
        const { io } = say;
        const c = makeColours(io);
        const scale = Number(o.scale);
        if (!(scale >= 1 && scale <= 1000))
          throw new CommandError(
            exit.wrongUse,
            'number-malformed',
            'The command was not understood',
            `--scale takes 1 to 1000, not "${o.scale}".`,
            'For example --scale 20.',
          );
        const folder = o.walkthrough ? mkdtempSync(join(tmpdir(), 'barrow-walkthrough-')) : resolve(o.folder);
        if ((o.fresh || o.friday) && !o.walkthrough) {
          refuseRunning(join(folder, 'data'));
          rmSync(folder, { recursive: true, force: true });
        }
        const began = Date.now();
        const seconds = (): string => `${((Date.now() - began) / 1000).toFixed(1)} s`;
        io.err('Starting the simulated devices…\n');
        const [
          { startFleet },
          { scenario, scenarioFixtures, writeScenarioImages, writeScenarioLibrary, writeUnpackedImage },
          data,
          { consoleFolder },
        ] = await Promise.all([
          import('../demo/fleet-child.js'),
          import('@barrow/standins'),
          import('../demo/data.js'),
          import('../console-folder.js'),
        ]);
        const images = writeScenarioImages(join(folder, 'images'));
        writeUnpackedImage(join(folder, 'unpacked'));
        const library = await writeScenarioLibrary(join(folder, 'images', 'library'));
        const fleet = await startFleet({
          scale,
          stateFile: join(folder, 'fleet.json'),
          faults: o.fault,
          controlPort: o.walkthrough ? 0 : Number(o.controlPort),
        });
        io.err(`${fleet.devices} simulated devices answer after ${seconds()}.\n`);
        const dataFolder = join(folder, 'data');
        try {
          if (o.walkthrough) {
            const { walkthrough } = await import('../demo/walkthrough.js');
            const nowhere = { host: '127.0.0.1', port: 0 };
            const service = await startHere({
              dataFolder,
              listen: nowhere,
              tftpListen: nowhere,
              httpStoreListen: nowhere,
              httpStoreTls: null,
              storeAddress: null,
              familyFolder: null,
              sheetFolder: join(folder, 'sheets'),
              timeScale: scale,
              consoleFolder: consoleFolder(),
              logLevel: o.log,
            });
            try {
              await walkthrough(io, dataFolder, images, join(folder, 'images', 'library'), fleet.control, run);
            } finally {
              await service.stop();
            }
            return;
          }
          io.err('Starting the service, and loading the demo data…\n');
          const { startServiceChild } = await import('../demo/service-child.js');
          const service = await startServiceChild(
            [
              ...['--data', dataFolder, '--listen', o.listen, '--tftp-listen', o.tftpListen, '--http-store-listen', o.httpStoreListen],
              ...['--sheets', join(folder, 'sheets'), '--device-time-scale', String(scale), '--log', o.log],
            ],
            io.err,
          );
          try {
            const barrow = connect({ data: dataFolder, url: service.url });
            await data.loadNetworks(barrow);
            const good = images.filter((i) => !/\/(damaged|other)\//.test(i));
            if (!o.bare) {
              const loaded = new data.Loaded(dataFolder);
              const names = [...scenario, ...scenarioFixtures].map((d) => d.name);
              await data.loadSecondDay(barrow, loaded, good, library, names);
              await data.loadStaging(barrow, loaded);
            }
            if (o.friday) {
              const { friday } = await import('../demo/friday.js');
              return await friday(io, { data: dataFolder, folder, control: fleet.control, scale, barrow, run });
            }
            io.err(`Ready after ${seconds()}.\n\n`);
            const token = readFileSync(join(dataFolder, 'token'), 'utf8').trim();
            const here = relative(process.cwd(), dataFolder) || '.';
            print(say, { url: service.url, token, data: dataFolder, control: fleet.control, devices: fleet.devices }, () =>
              [
                `${c.bold('Open')}   ${service.url}/#token=${token}`,
                `${c.bold('Try')}    BARROW_DATA=${here} npx barrow ${o.bare ? 'discover' : 'rollout plan --soak 20s'}`,
                '',
                `${fleet.devices} simulated devices, their time ${scale} times ours. What truly happened to them: ${fleet.control}`,
                `Images to add by hand: ${relative(process.cwd(), join(folder, 'images'))}. End with Ctrl-C.`,
                `To kill the service alone, which comes back by itself: kill -9 $(cat ${join(here, 'pid')})`,
                `Night sheets of what runs, for paper: ${relative(process.cwd(), join(folder, 'sheets'))}`,
                '',
              ].join('\n'),
            );
            await untilStopped(async () => undefined, io.err);
          } finally {
            await service.stop();
          }
        } finally {
          await fleet.stop();
          if (o.walkthrough) rmSync(folder, { recursive: true, force: true });
        }
      }),
    );
};
