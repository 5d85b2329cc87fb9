import { CauseError, duration } from '@barrow/core';
import { ownNow, ownPause } from '@barrow/wire';
import type { DeviceRow } from '../../data/entities.js';
import { preflightFacts } from './before.js';
import { toldFor } from '../../staging/told.js';
import { Pushes } from '../../staging/pushes.js';
import type { Watch } from '../../staging/watch.js';
import { steadyNow } from '../../steady.js';
import type { Step, StepContext } from './step.js';

/** Brings the image to the device, as its family says. */
export const transfer: Step = (step) => (step.family.travel?.how === 'device-pulls' ? haveItFetched(step) : carry(step));

/** Carries its files to the device, over the link of its site. */
const carry: Step = async (step) => {
  const { context, image, device, transfers, deliveries, signal } = step;
  const pushes = new Pushes(transfers, device, image, {
    octets: (all) => step.tell(Math.floor((all * 100) / image.bytes)),
    begun: () => undefined,
  });
  const session = await step.login({ link: deliveries.parts.sites.linkOf(device.site), onPushed: pushes.onPushed });
  try {
    const { gives } = await session.run('transfer');
    pushes.whole();
    return {
      kind: 'done',
      facts: { wasThere: gives['wasThere'] === 'yes', sentAt: steadyNow(), transfer: pushes.all.at(-1)?.row.id ?? null },
    };
  } catch (error) {
    if (error instanceof CauseError) pushes.broken(error);
    // A device that restarts by itself may do so before it has answered; the return tells.
    const restarts = step.steps.find((s) => s.step === 'transfer')?.down ?? false;
    const isCut = error instanceof CauseError && error.code === 'session-lost' && pushes.carried === image.bytes;
    if (!restarts || !isCut || signal.aborted) throw error;
    context.log.info({ device: device.name }, 'the connection was lost after all was carried: it restarts');
    return { kind: 'done', facts: { wasThere: false, sentAt: steadyNow(), transfer: pushes.all.at(-1)?.row.id ?? null } };
  } finally {
    pushes.end(signal.aborted);
  }
};

/** Offers the image to this device alone, has it fetch, and names why when nothing came of it. */
const haveItFetched: Step = async (step) => {
  const { offers, image, device, plan, family } = step;
  const [offered] = offers.offer(image, device, plan.id);
  const takeAway = family.rule && offers.lay(device, ruleName(family.rule.name, device), await step.fillIn(family.rule.text));
  const { told, protocol, bySite } = await toldFor(step, device, image);
  // What moves from the store of a site, Barrow does not see.
  const watch = bySite
    ? null
    : step.watches.begin({
        device,
        image,
        bytes: offered!.file.bytes,
        fetchesFrom: offered!.device.fetchesFrom,
        told,
        protocol,
        reach: reachOf(step),
      });
  try {
    watch?.needStore();
    const session = await step.login({ fetched: (limitMs) => fetchedBy(step, watch, offered!.file.bytes, limitMs) });
    const { gives } = await session.run('transfer');
    if (gives['wasThere'] === 'yes') {
      watch?.forget();
      return { kind: 'done', facts: { wasThere: true } };
    }
    const moved = watch?.moves().filter((t) => t.row.state !== 'broken') ?? [];
    const last = moved[moved.length - 1]?.row;
    return {
      kind: 'done',
      facts: { sentAt: steadyNow(), transfer: last?.id ?? null, bytes: last?.bytes ?? null, resent: last?.resent ?? null },
    };
  } catch (error) {
    if (!(error instanceof CauseError)) throw error;
    if (error.code === 'session-lost' || error.code === 'unreachable') throw await explainLost(step, error, watch);
    throw watch ? await watch.conclude(error) : error;
  } finally {
    watch?.end();
    takeAway?.();
    offers.withdraw(image, device, plan.id);
  }
};

const ruleName = (name: string, { mac }: DeviceRow): string => name.replace('{mac}', (mac ?? '').replaceAll(':', '').toLowerCase());

/** Waits until the store has given all of the image; when nothing moved for so long, it is asked why. */
async function fetchedBy(step: StepContext, watch: Watch | null, bytes: number, limitMs: number): Promise<void> {
  if (!watch) throw new CauseError('service-fault', 'what it fetches from the store of its site is not seen here');
  let moved = 0;
  let until = ownNow() + limitMs;
  for (;;) {
    const last = watch.moves().at(-1)?.row;
    if (last?.state === 'done' && last.bytes >= bytes) return;
    if (step.signal.aborted) throw new CauseError('session-lost', 'the service is stopping');
    if ((last?.bytes ?? 0) > moved) {
      moved = last!.bytes;
      until = ownNow() + limitMs;
      step.tell(Math.floor((moved * 100) / bytes));
    }
    if (ownNow() > until)
      throw new CauseError(moved > 0 ? 'transfer-broken' : 'never-asked', `it was told, and then nothing moved for ${duration(limitMs)}`);
    await ownPause(50, step.signal);
  }
}

/** The device's own ping of the store, where its family knows how. */
function reachOf(step: StepContext): (() => Promise<boolean | null>) | null {
  if (!step.family.procedures.reach) return null;
  return async () => (await (await step.login()).run('reach')).gives['reached'] === 'yes';
}

/** A lost session may mean that the device restarted; it is asked once it is back. */
async function explainLost(step: StepContext, error: CauseError, watch: Watch | null): Promise<CauseError> {
  const last = watch?.last.row.state === 'awaited' ? undefined : watch?.last.row;
  const store =
    last === undefined
      ? 'no request of this device reached the store'
      : `the store saw it ask for ${last.file}: ${last.detail ?? `${last.bytes} of ${last.totalBytes} octets moved`}`;
  const counted = preflightFacts(step)?.running.bootCount ?? null;
  const limit = ownNow() + Math.max(15_000, step.returnMs);
  while (ownNow() < limit && !step.signal.aborted) {
    // Something answers before a login is worth trying.
    if (!(await step.alive(500, 0)).answers) {
      await ownPause(20, step.signal);
      continue;
    }
    try {
      const { gives } = await step.once('record');
      if (counted !== null && Number(gives['bootCount']) > counted)
        return new CauseError(
          'rebooted-in-write',
          `it counted ${counted} boots before and ${gives['bootCount']} now, and runs ${gives['firmware']}; ${store}`,
        );
      return error;
    } catch (again) {
      if (!(again instanceof CauseError)) throw again;
      await ownPause(100, step.signal);
    }
  }
  return new CauseError('went-silent', `the session was lost during the transfer; since then neither SNMP nor SSH answered; ${store}`);
}
