import { places, type Delivery, type DeliveryPlan, type Place } from '@barrow/core';
import { someOf } from '@barrow/client';
import type { Register } from '../context.js';
import { windowOf } from '../plan-options.js';
import { CommandError, exit, Quiet } from '../errors.js';
import { count, makeColours, Mark, octets, print, spanOf, table, type Io } from '../output.js';

const asPlace = (text: string): Place => {
  const found = places.find((p) => p === text);
  if (found) return found;
  throw new CommandError(
    exit.wrongUse,
    'place-unknown',
    'The command was not understood',
    `--at takes ${places.join(', ')}, not "${text}".`,
    'Leave it out to offer the image in the stores of Barrow.',
  );
};

/** How a delivery stands, by word and shape. */
function deliveryMark(io: Io, d: Delivery): Mark {
  const c = makeColours(io);
  const percent = d.totalBytes > 0 ? Math.floor((d.bytes / d.totalBytes) * 100) : 0;
  const shown: Record<Delivery['state'], string> = {
    waiting: '· waiting',
    moving: `▸ moving ${percent} %`,
    verifying: '▸ verifying',
    verified: c.green('✓ verified'),
    brought: '✓ brought, not compared',
    failed: c.red('✕ failed'),
    stopped: '− stopped',
  };
  return new Mark(shown[d.state]);
}

const holderOf = (d: Delivery): string => (d.place === 'site-store' ? `store of ${d.holder.name}` : d.holder.name);

function deliveryTable(io: Io, all: readonly Delivery[]): string {
  return table(
    io,
    ['ID', 'IMAGE', 'HELD BY', 'FOR', 'STATE', 'LEFT', 'WHY'],
    all.map((d) => [
      d.id,
      d.file,
      holderOf(d),
      d.place === 'device'
        ? 'itself'
        : someOf(
            d.devices.map((x) => x.name),
            2,
          ),
      deliveryMark(io, d),
      d.endedAt === null ? (d.secondsLeft === null ? 'not known yet' : spanOf(d.secondsLeft)) : null,
      d.cause ? `${d.cause.what} ${d.detail ?? ''}`.slice(0, 240) : d.removed.length > 0 ? `removed ${d.removed.join(', ')}` : null,
    ]),
    [5],
  );
}

function planText(io: Io, items: readonly DeliveryPlan['items'][number][]): string {
  return items
    .map((p) => {
      const lines = [
        `${p.holder}: ${p.problem ?? (p.alreadyThere ? 'has it already' : p.fits === false ? 'has no room for it yet' : 'can take it')}`,
      ];
      if (p.freeBytes !== null) lines.push(`  ${octets(p.freeBytes)} free, ${octets(p.totalBytes)} needed`);
      if (p.wouldRemove.length > 0) lines.push(`  with --make-room this is removed first: ${p.wouldRemove.join(', ')}`);
      if (p.seconds !== null) lines.push(`  over its link in about ${spanOf(p.seconds)}`);
      if (p.arms) lines.push('  from then on its next reset, whatever causes it, brings the image');
      if (p.holds.length > 0)
        lines.push(
          table(
            io,
            ['  HOLDS', 'SIZE', 'USE'],
            p.holds.map((h) => [`  ${h.file}`, h.bytes === null ? null : octets(h.bytes), h.use]),
            [1],
          ),
        );
      return lines.join('\n');
    })
    .join('\n');
}

interface PutOptions {
  at?: string;
  makeRoom?: boolean;
  plan?: boolean;
  wait?: boolean;
}

export const registerStaging: Register = (program, act) => {
  const staging = program.command('staging').description('what is offered or held where, for whom, and whether it can be reached');
  staging
    .command('put <image> <devices...>')
    .description('offer an image to devices that it fits; or bring it ahead to where they take it')
    .option('--at <place>', `${places.join(', ')}: bring it there now, and have its digest checked there`)
    .option('--make-room', 'remove there what nobody needs, as its family allows, when there is not enough space')
    .option('--plan', 'only say what would be found and done; nothing is changed')
    .option('--wait', 'wait until it is there; ends with 1 when it could not be brought')
    .action(
      act(async ({ say, client }, image: string, devices: string[], o: PutOptions) => {
        const barrow = client();
        if (o.at === undefined) {
          if (o.makeRoom || o.plan || o.wait)
            throw new CommandError(
              exit.wrongUse,
              'place-missing',
              'The command was not understood',
              '--make-room, --plan and --wait need --at.',
              `Name a place: --at ${places.join(', --at ')}.`,
            );
          const made = await barrow.putOffer(image, devices);
          return print(say, made, () => made.map((x) => `${x.url} for ${x.devices.map((d) => d.name).join(', ')}`).join('\n'));
        }
        const input = { image, devices, place: asPlace(o.at), makeRoom: o.makeRoom === true };
        if (o.plan) {
          const items = await barrow.planDelivery(input);
          return print(say, items, () => planText(say.io, items));
        }
        const made = await barrow.deliver(input);
        if (!o.wait)
          return print(
            say,
            made,
            () => `${deliveryTable(say.io, made)}\n\nIt goes on by itself: \`barrow staging list\` shows how far it is.`,
          );
        const ids = new Set(made.map((d) => d.id));
        const stop = new AbortController();
        let ended = made;
        const look = async (): Promise<boolean> => {
          ended = (await barrow.deliveries(5000)).filter((d) => ids.has(d.id));
          return ended.every((d) => d.endedAt !== null);
        };
        if (!(await look()))
          for await (const event of barrow.events({ signal: stop.signal })) {
            if (event.kind !== 'delivery' || !ids.has(event.delivery.id)) continue;
            const d = event.delivery;
            if (say.io.terminal && !say.json)
              say.io.err(`\r\u001b[K${holderOf(d)}: ${d.state} ${octets(d.bytes)} of ${octets(d.totalBytes)}`);
            if (d.endedAt !== null && (await look())) break;
          }
        stop.abort();
        if (say.io.terminal && !say.json) say.io.err('\r\u001b[K');
        print(say, ended, () => deliveryTable(say.io, ended));
        if (ended.some((d) => d.state !== 'verified' && d.state !== 'brought')) throw new Quiet(exit.workFailed);
      }),
    );
  staging
    .command('list')
    .description('the offers, and what was brought ahead')
    .option('--dhcp', 'what to enter into a DHCP server for devices that are told by it')
    .action(
      act(async ({ say, client }, o: { dhcp?: boolean }) => {
        const barrow = client();
        if (o.dhcp) {
          const items = await barrow.dhcp();
          return print(say, items, () =>
            items.length === 0
              ? 'Nothing is offered, so that there is nothing to enter: `barrow staging put IMAGE DEVICE`.'
              : items
                  .map((i) =>
                    [
                      `${i.site}, for ${someOf(i.devices, 5)}`,
                      ...i.options.map((x) => `  option ${x.code} (${x.name}): ${x.value}`),
                      ...i.warnings.map((w) => `  ! ${w}`),
                    ].join('\n'),
                  )
                  .join('\n\n'),
          );
        }
        // With --json the offers alone, as they are documented; deliveries have a command of their own.
        const offers = await barrow.offers();
        if (say.json) return print(say, offers, () => '');
        const deliveries = await barrow.deliveries();
        print(say, offers, () => {
          const parts = [];
          if (offers.length > 0)
            parts.push(
              table(
                say.io,
                ['OFFERED AS', 'AT', 'SIZE', 'STAGED BY', 'FOR'],
                offers.map((x) => [
                  x.file,
                  x.url,
                  octets(x.bytes),
                  x.rollout ?? 'a person',
                  someOf(
                    x.devices.map((d) => d.name),
                    4,
                  ),
                ]),
                [2],
              ),
            );
          if (deliveries.length > 0) parts.push(deliveryTable(say.io, deliveries));
          return parts.length === 0
            ? 'Nothing is offered. A rollout stages by itself; by hand: `barrow staging put IMAGE DEVICE`.'
            : parts.join('\n\n');
        });
      }),
    );
  staging
    .command('held')
    .description('what was brought ahead to devices, parents and stores of sites, newest first')
    .action(
      act(async ({ say, client }) => {
        const all = await client().deliveries();
        print(say, all, () =>
          all.length === 0 ? 'Nothing was brought ahead yet: `barrow staging put IMAGE DEVICE --at device`.' : deliveryTable(say.io, all),
        );
      }),
    );
  for (const [verb, description] of [
    ['stop', 'stop bringing an image ahead'],
    ['retry', 'begin anew what failed or was stopped'],
  ] as const)
    staging
      .command(`${verb} <id>`)
      .description(description)
      .action(
        act(async ({ say, client }, id: string) => {
          const d = await client().tellDelivery(id, verb);
          print(say, d, () => deliveryTable(say.io, [d]));
        }),
      );
  staging
    .command('disarm <device>')
    .description('take back that the next reset of a device brings another version')
    .action(
      act(async ({ say, client }, device: string) => {
        const done = await client().disarm(device);
        print(say, done, () => `${done.device} no longer takes ${done.disarmed} at its next reset.`);
      }),
    );
  staging
    .command('drop <image>')
    .description('take back what a person offered')
    .option('--device <device>', 'only for this device')
    .action(
      act(async ({ say, client }, id: string, o: { device?: string }) => {
        const done = await client().dropOffer(id, o.device);
        print(say, done, () => `${count(done.dropped, 'offer')} dropped.`);
      }),
    );
  staging
    .command('check [devices...]')
    .description('whether the stores answer through each address, and whether devices reach them')
    .action(
      act(async ({ say, client }, devices: string[]) => {
        const found = await client().checkStores(devices);
        const c = makeColours(say.io);
        const mark = (works: boolean | null): Mark =>
          new Mark(works === null ? '? not known' : works ? c.green('✓ works') : c.red('✕ fails'));
        print(say, found, () =>
          table(
            say.io,
            ['WHAT', 'ADDRESS', 'RESULT', 'SEEN'],
            [
              ...found.stores.map((s) => [`${s.protocol.toUpperCase()} store`, `${s.address}:${s.port}`, mark(s.works), s.detail]),
              ...found.sites.map((s) => [`told at ${s.site}`, s.address, mark(s.works), s.detail]),
              ...found.devices.map((d) => [`seen by ${d.name}`, d.address, mark(d.reaches), d.detail]),
            ],
          ),
        );
        if ([...found.stores, ...found.sites].some((s) => s.works === false) || found.devices.some((d) => d.reaches === false))
          throw new Quiet(exit.workFailed);
      }),
    );

  const site = program.command('site').description('how fast the links of sites are, and at what address they see Barrow');
  site
    .command('list')
    .description('the sites, and what waits for them')
    .action(
      act(async ({ say, client }) => {
        const all = await client().sites();
        print(say, all, () =>
          all.length === 0
            ? 'No site is known: they come with networks and devices.'
            : table(
                say.io,
                ['SITE', 'DEVICES', 'LINK', 'SEES BARROW AT', 'STORE OF ITS OWN', 'GOES DOWN', 'WAITING', 'LEFT'],
                all.map((s) => [
                  s.here ? `${s.name} (Barrow is on ${s.here.name})` : s.name,
                  s.devices,
                  s.linkKilobits === null ? null : `${s.linkKilobits} kbit/s`,
                  s.storeAddress,
                  s.store?.serve ?? null,
                  s.windowText,
                  s.waitingBytes === 0 ? null : octets(s.waitingBytes),
                  s.secondsLeft === null ? null : spanOf(s.secondsLeft),
                ]),
                [1, 6, 7],
              ),
        );
      }),
    );
  site
    .command('set <site>')
    .description('say how a site is reached, and when its devices may go down; what is not named stays')
    .option('--link <kbit/s>', 'how fast everything together is sent there; none: as fast as it goes')
    .option('--store-address <address>', "at what address its devices see Barrow's stores; none: where they listen")
    .option('--serve <url>', 'its own store as its devices see it: tftp://ADDRESS:PORT or http://ADDRESS:PORT/FOLDER; none: it has none')
    .option('--fill <url>', 'how Barrow fills that store: sftp://ADDRESS:PORT/FOLDER or http://ADDRESS:PORT/FOLDER')
    .option('--credential <name>', 'the login for filling it')
    .option('--between <times>', 'when its devices may go down, e.g. 22:00-04:00, where a plan says nothing else; none: at any time')
    .option('--on <days>', 'on which days that begins, e.g. Sat,Sun or 2026-11-28')
    .option('--zone <zone>', 'in which time zone, e.g. Europe/London')
    .option('--here <device>', "the device there on which Barrow's own machine hangs; none: what the devices tell counts")
    .option('--asked <words>', 'what somebody there said when they were asked what lives hang on; none: nobody was')
    .option('--contact <words>', 'who is there, and how they are reached, for the night sheet; none: nobody')
    .action(
      act(
        async (
          { say, client },
          name: string,
          o: {
            contact?: string;
            asked?: string;
            here?: string;
            between?: string;
            on?: string;
            zone?: string;
            link?: string;
            storeAddress?: string;
            serve?: string;
            fill?: string;
            credential?: string;
          },
        ) => {
          if ((o.serve !== undefined && o.serve !== 'none') !== (o.fill !== undefined))
            throw new CommandError(
              exit.wrongUse,
              'store-half',
              'The command was not understood',
              '--serve and --fill belong together.',
              'Say both how its devices see the store and how Barrow fills it.',
            );
          const link = o.link === undefined || o.link === 'none' ? null : Number(o.link);
          if (link !== null && !(Number.isInteger(link) && link > 0))
            throw new CommandError(
              exit.wrongUse,
              'number-malformed',
              'The command was not understood',
              `--link takes kilobits in a second, not "${o.link}".`,
              'For example --link 256, or --link none.',
            );
          const window = o.between === 'none' ? null : windowOf(o);
          const s = await client().setSite(name, {
            ...(window === null && o.between === undefined ? {} : { window }),
            ...(o.link === undefined ? {} : { linkKilobits: link }),
            ...(o.asked === undefined ? {} : { asked: o.asked === 'none' ? null : o.asked }),
            ...(o.contact === undefined ? {} : { contact: o.contact === 'none' ? null : o.contact }),
            ...(o.here === undefined ? {} : { here: o.here === 'none' ? null : o.here }),
            ...(o.storeAddress === undefined ? {} : { storeAddress: o.storeAddress === 'none' ? null : o.storeAddress }),
            ...(o.serve === undefined
              ? {}
              : { store: o.serve === 'none' ? null : { serve: o.serve, fill: o.fill!, credential: o.credential ?? null } }),
          });
          print(say, s, () =>
            [
              s.name,
              `  link: ${s.linkKilobits === null ? 'as fast as it goes' : `${s.linkKilobits} kbit/s`}`,
              `  sees Barrow at: ${s.storeAddress ?? 'the address where the stores listen'}`,
              `  its devices go down: ${s.windowText ?? 'at any time'}`,
              `  who is there: ${s.contact ?? 'nobody said'}`,
              `  asked what lives hang on: ${s.asked ?? 'nobody was'}`,
              ...(s.here ? [`  Barrow's own machine hangs on: ${s.here.name}${s.here.told ? '' : ' (so its table tells)'}`] : []),
              `  store of its own: ${s.store ? `${s.store.serve}, filled by ${s.store.fill}` : 'none'}`,
            ].join('\n'),
          );
        },
      ),
    );
};
