import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RunningService, ServiceOptions } from '@barrow/service';
import { dataFolder, defaultListen } from '../connect.js';
import type { Register } from '../context.js';
import { CommandError, exit } from '../errors.js';

export const defaultTftp = '127.0.0.1:6969';
export const defaultHttpStore = '127.0.0.1:6980';

export function hostPort(option: string, text: string): { host: string; port: number } {
  const match = /^(?:\[([0-9a-fA-F:]+)\]|([^:]+)):(\d{1,5})$/.exec(text);
  const port = Number(match?.[3]);
  if (!match || port > 65535)
    throw new CommandError(
      exit.wrongUse,
      'address-malformed',
      'The command was not understood',
      `${option} takes HOST:PORT, not "${text}".`,
      `For example ${option} ${defaultListen}.`,
    );
  return { host: (match[1] ?? match[2])!, port };
}

/** Starts the service and leaves its address beside its token, where commands on this machine find both. */
export async function startHere(options: ServiceOptions): Promise<RunningService> {
  const { startService } = await import('@barrow/service');
  const service = await startService(options);
  const file = join(options.dataFolder, 'address');
  writeFileSync(file, `${service.url}\n`);
  const pid = join(options.dataFolder, 'pid');
  writeFileSync(pid, `${process.pid}\n`);
  return {
    ...service,
    stop: async () => {
      await service.stop();
      rmSync(file, { force: true });
      rmSync(pid, { force: true });
    },
  };
}

/** Waits for the word to stop, then stops without cutting anything. */
export function untilStopped(stop: () => Promise<void>, say: (text: string) => void): Promise<void> {
  return new Promise((resolve, reject) => {
    let stopping = false;
    const leave = (): void => {
      if (stopping) return say('Still finishing what must not be cut.\n');
      stopping = true;
      stop().then(resolve, reject);
    };
    process.on('SIGTERM', leave);
    process.on('SIGINT', leave);
    // A channel to who started it, as the demo has: whoever that was is gone, and nobody else will stop this.
    process.on('disconnect', leave);
  });
}

export const registerServe: Register = (program, act) => {
  program
    .command('serve')
    .description('start the service')
    .option('--listen <host:port>', 'where the console and the HTTP interface listen', defaultListen)
    .option('--tftp-listen <host:port>', 'where the TFTP store listens; several addresses with commas', defaultTftp)
    .option('--http-store-listen <host:port>', 'where the HTTP store listens', defaultHttpStore)
    .option('--http-store-cert <file>', 'its certificate in PEM form, for TLS')
    .option('--http-store-key <file>', 'the key of that certificate')
    .option('--store-address <address>', 'the address that devices are told to fetch from')
    .option('--families <folder>', 'family files to use instead of those that ship')
    .option('--sheets <folder>', 'write the night sheet of each rollout there after everything that happens in it')
    .option('--new-admin-token', 'lost the admin token? make another, into the file token of the data folder')
    .option('--log <level>', 'trace, debug, info, warn, error or silent', 'info')
    .option('--device-time-scale <n>', 'how much faster the time of simulated devices runs', '1')
    .action(
      act(
        async (
          { say, where },
          o: {
            listen: string;
            tftpListen: string;
            httpStoreListen: string;
            httpStoreCert?: string;
            httpStoreKey?: string;
            storeAddress?: string;
            families?: string;
            sheets?: string;
            newAdminToken?: boolean;
            log: string;
            deviceTimeScale: string;
          },
        ) => {
          const { httpStoreCert: cert, httpStoreKey: key } = o;
          if ((cert === undefined) !== (key === undefined))
            throw new CommandError(
              exit.wrongUse,
              'certificate-half',
              'The command was not understood',
              '--http-store-cert and --http-store-key belong together.',
              'Name both files, or neither.',
            );
          const { consoleFolder } = await import('../console-folder.js');
          const service = await startHere({
            dataFolder: dataFolder(where),
            listen: hostPort('--listen', o.listen),
            tftpListen: hostPort('--tftp-listen', o.tftpListen),
            httpStoreListen: hostPort('--http-store-listen', o.httpStoreListen),
            httpStoreTls: cert !== undefined && key !== undefined ? { cert, key } : null,
            storeAddress: o.storeAddress ?? null,
            familyFolder: o.families ?? null,
            sheetFolder: o.sheets ?? null,
            timeScale: Number(o.deviceTimeScale) || 1,
            consoleFolder: consoleFolder(),
            logLevel: o.log,
            newAdminToken: o.newAdminToken === true,
          });
          // Heard before it is said that it runs: who hears that may stop it at once.
          const stopped = untilStopped(() => service.stop(), say.io.err);
          say.io.out(
            say.json
              ? `${JSON.stringify({ url: service.url, tftp: service.tftp, httpStore: service.httpStore })}\n`
              : `Barrow listens on ${service.url}, its TFTP store on ${service.tftp}, its HTTP store on ${service.httpStore}.\nData and token are in ${dataFolder(where)}.\n`,
          );
          await stopped;
        },
      ),
    );
};
