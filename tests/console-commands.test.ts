import { readdirSync, readFileSync } from 'node:fs';
import { describe, expect, it } from 'vitest';
import { barrow } from './support/service.js';

const source = new URL('../packages/console/src/', import.meta.url);
/** What the console calls of the client, by name. */
const called = new Set(
  ['pages', 'parts', 'lib'].flatMap((folder) =>
    readdirSync(new URL(folder, source)).flatMap((file) => {
      const text = readFileSync(new URL(`${folder}/${file}`, source), 'utf8');
      return [...text.matchAll(/client\(\)\s*\.(\w+)\(/g)].map((m) => m[1]!);
    }),
  ),
);

/**
 * Where what a command does can be done in the console: by which call. `-` tells why it is not there. A command that is not in this
 * list fails the test: who adds one says where it is.
 */
const where: Readonly<Record<string, string | `- ${string}`>> = {
  serve: '- it is what the console is served by',
  demo: '- it begins outside of a browser',
  discover: 'discover',
  standing: 'standing',
  upgrade: 'plan',
  // `report ROLLOUT` itself is under the name of the page in the console: `reportAs`.
  'report verify': '- it looks at a file, without the service',
  'report key': '- it is compared by who has a report in hand',
  'network add': 'addNetwork',
  'network list': 'networks',
  'network set': '- an admin does it in the command line so far',
  'network trust': 'changeNetwork',
  'network remove': 'removeNetwork',
  'credential add': 'addCredential',
  'credential list': 'credentials',
  'credential remove': 'removeCredential',
  'token add': 'addToken',
  'token list': 'tokens',
  'token remove': 'removeToken',
  map: 'map',
  'device list': 'devicePage',
  'device show': 'device',
  'device history': 'deviceHistory',
  'device add': 'enterDevice',
  'device set': 'setDevice',
  'device remove': 'removeDevice',
  'device locate': 'locate',
  'device waiting': 'waitingHosts',
  'device approve': 'approveHosts',
  'device accept-key': 'acceptHostKey',
  'device export': 'exportDevices',
  'device import': 'importDevices',
  'family list': 'families',
  'family show': 'families',
  'family add': 'addFamily',
  'family remove': 'removeFamily',
  'family write': 'familyFile',
  'family new': 'familyDraft',
  'family expected': 'forgetExpected',
  'family record': '- it is a conversation, written into a file on the machine of who holds it',
  'family try': '- it looks at files on the machine of who writes them',
  'family check': '- it looks at a file on the machine of who writes it',
  'image add': 'beginUpload',
  'image list': 'images',
  'image show': 'image',
  'image note': 'setNote',
  'image read': 'readNotes',
  'image withdraw': 'setNote',
  'image verify': 'verifyImages',
  'image export': 'exportImages',
  'image import': 'importImages',
  'image remove': 'removeImage',
  'target set': 'setTarget',
  'target set-all': 'setTargets',
  'target compare': 'compareTargets',
  'target write': 'targetsAsSet',
  'target list': 'targets',
  'target pins': 'pins',
  'target pin': 'setPin',
  'target unpin': 'removePin',
  'target remove': 'removeTarget',
  'advisory add': 'addAdvisory',
  'advisory list': 'advisories',
  'advisory show': 'advisory',
  'advisory map': 'mapProduct',
  'advisory rank': 'rankByAdvisories',
  'advisory remove': 'removeAdvisory',
  'staging put': 'deliver',
  'staging list': 'offers',
  'staging held': 'deliveries',
  'staging stop': 'tellDelivery',
  'staging retry': 'tellDelivery',
  'staging disarm': 'disarm',
  'staging drop': 'dropOffer',
  'staging check': 'checkStores',
  'site list': 'sites',
  'site set': 'setSite',
  'transfer list': 'transfers',
  'transfer show': 'transfer',
  'transfer follow': 'transfer',
  'transfer stop': 'stopTransfer',
  'transfer claim': 'claimTransfer',
  'rollout plan': 'plan',
  'rollout compare': 'rehearsal',
  'rollout plan-rest': 'plan',
  'rollout plan-back': 'plan',
  deeds: 'deeds',
  'backup retention': 'setBackupRetention',
  'notice list': 'notices',
  'notice add': 'addReceiver',
  'notice remove': 'removeReceiver',
  'notice test': 'tryReceiver',
  'notice mail-server': 'setMailServer',
  'notice heartbeat': 'setHeartbeat',
  'notice address': 'setNoticeAddress',
  'rollout write': 'planFile',
  'rollout plan-from': 'planFromFile',
  'rollout list': 'rollouts',
  'rollout show': 'rollout',
  'rollout rehearse': 'rehearsal',
  'rollout page': 'atSite',
  'rollout take-over': 'sayRun',
  'rollout expect': 'expect',
  'rollout soak': 'soaks',
  'rollout sheet': 'sheet',
  'rollout start': 'say',
  'rollout follow': 'rolloutChanges',
  'rollout hold': 'say',
  'rollout continue': 'say',
  'rollout stop': 'say',
  'rollout discard': 'discardRollout',
  'rollout approve': 'say',
  'rollout retry': 'sayRun',
  'rollout skip': 'sayRun',
  'rollout take-back': 'sayRun',
  'rollout release': 'sayRun',
  'rollout done': 'sayRun',
  'rollout answer': 'sayRun',
  'rollout note': 'say',
  'backup take': 'takeBackup',
  'backup list': 'backups',
  'backup show': 'backup',
  'backup compare': 'compareBackups',
  'backup restore': 'restoreBackup',
  'device swap': 'swapDevice',
};

/** The commands of a help text. */
const commandsIn = (help: string): string[] =>
  [...help.matchAll(/^ {2}([a-z][a-z-]*)(?: |$)/gm)].map((m) => m[1]!).filter((c) => c !== 'help');

describe('what the command line can do', async () => {
  const top = commandsIn((await barrow(['--help'])).out);
  const below = await Promise.all(
    top.map(async (group) => {
      const { out } = await barrow([group, '--help']);
      const list = /^Commands:\n([\s\S]*)/m.exec(out)?.[1] ?? '';
      const names = commandsIn(list);
      return names.length === 0 ? [group] : names.map((n) => `${group} ${n}`);
    }),
  );
  const commands = below.flat();

  it('is all in the list of where the console has it, and nothing else is', () => {
    expect(commands.length).toBeGreaterThan(80);
    expect([...commands].sort()).toEqual(Object.keys(where).sort());
  });

  it('is done by a call that the console truly makes', () => {
    const missing = Object.entries(where).filter(([, call]) => !call.startsWith('-') && !called.has(call));
    expect(missing).toEqual([]);
  });
});
