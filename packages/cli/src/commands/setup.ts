import { credentialKinds, type CredentialKind, type Network, type ProbeName } from '@barrow/core';
import type { Register } from '../context.js';
import { collect } from '../context.js';
import { CommandError, exit } from '../errors.js';
import { clock, count, print, table } from '../output.js';
import { secretFrom } from '../secret.js';

function portsOf(n: Network, probe: ProbeName): string {
  return {
    snmp: `${n.snmpPort}`,
    ssh: `${n.sshPort}`,
    http: `${n.httpPort}/${n.httpsPort}`,
    onvif: `${n.wsDiscoveryPort}`,
    sip: `${n.sipPort}`,
  }[probe];
}

/** What `network set` takes; what is absent stays as it is. */
interface NetworkOptions {
  readonly site?: string;
  readonly range: string[];
  readonly exclude: string[];
  readonly credential: string[];
  readonly probe: string[];
  readonly snmpPort?: string;
  readonly sshPort?: string;
  readonly httpPort?: string;
  readonly httpsPort?: string;
  readonly wsDiscoveryPort?: string;
  readonly sipPort?: string;
  readonly rate?: string;
  readonly storeAddress?: string;
}

export const registerSetup: Register = (program, act) => {
  const network = program.command('network').description('where to look for devices');
  network
    .command('add <name>')
    .description('add a network; nothing outside the networks is ever scanned')
    .requiredOption('--range <range>', 'addresses, e.g. 127.40.1.0/24, 127.40.1.1-40 or ::1; may repeat', collect, [])
    .option('--exclude <range>', 'addresses to leave out; may repeat', collect, [])
    .requiredOption('--site <site>', 'the site that its devices belong to')
    .option('--credential <name>', 'credentials to try, in order; may repeat', collect, [])
    .option('--probe <probe>', 'only these probes: snmp, ssh, http, onvif, sip; may repeat', collect, [])
    .option('--snmp-port <port>', 'UDP port of SNMP', '161')
    .option('--ssh-port <port>', 'TCP port of SSH', '22')
    .option('--http-port <port>', 'TCP port of HTTP and ONVIF', '80')
    .option('--https-port <port>', 'TCP port of HTTPS', '443')
    .option('--ws-discovery-port <port>', 'UDP port of WS-Discovery', '3702')
    .option('--sip-port <port>', 'UDP port of SIP', '5060')
    .option('--rate <packets>', 'most packets in a second', '500')
    .option('--store-address <address>', 'the address at which its devices see this service')
    .option('--trust-now', 'approve devices of known families that its first discovery finds: passwords go to whatever answers there then')
    .action(
      act(
        async (
          { say, client },
          name: string,
          o: Record<string, never> & {
            range: string[];
            exclude: string[];
            site: string;
            credential: string[];
            probe: string[];
            snmpPort: string;
            sshPort: string;
            httpPort: string;
            httpsPort: string;
            wsDiscoveryPort: string;
            sipPort: string;
            rate: string;
            storeAddress?: string;
            trustNow?: boolean;
          },
        ) => {
          const made = await client().addNetwork({
            name,
            site: o.site,
            ranges: o.range,
            exclude: o.exclude,
            credentials: o.credential,
            snmpPort: Number(o.snmpPort),
            sshPort: Number(o.sshPort),
            httpPort: Number(o.httpPort),
            httpsPort: Number(o.httpsPort),
            wsDiscoveryPort: Number(o.wsDiscoveryPort),
            sipPort: Number(o.sipPort),
            ...(o.probe.length > 0 ? { probes: o.probe as ProbeName[] } : {}),
            packetsPerSecond: Number(o.rate),
            storeAddress: o.storeAddress ?? null,
            trustNow: o.trustNow === true,
          });
          print(
            say,
            made,
            () =>
              `Network ${made.name}: ${made.addresses} addresses at ${made.site}.${made.trustNow ? ' Devices of known families that its first discovery finds are approved; others wait for approval.' : made.credentials.length > 0 ? ' Hosts get no password before you approve them.' : ''}`,
          );
        },
      ),
    );
  network
    .command('list')
    .description('the networks')
    .action(
      act(async ({ say, client }) => {
        const all = await client().networks();
        print(say, all, () =>
          all.length === 0
            ? 'No networks yet. Add one with `barrow network add`.'
            : table(
                say.io,
                ['NAME', 'SITE', 'RANGES', 'ADDRESSES', 'PROBES AND PORTS', 'RATE', 'CREDENTIALS'],
                all.map((n) => [
                  n.name,
                  n.site,
                  [n.ranges.join(' '), n.exclude.length > 0 ? `without ${n.exclude.join(' ')}` : ''].filter(Boolean).join(' '),
                  n.addresses,
                  n.probes.map((p) => `${p} ${portsOf(n, p)}`).join(', '),
                  `${n.packetsPerSecond}/s`,
                  `${n.credentials.join(', ') || 'none'}${n.trustNow ? '; trusts what it finds next' : ''}`,
                ]),
                [3, 5],
              ),
        );
      }),
    );
  network
    .command('set <name>')
    .description('change a network; what you do not name stays as it is')
    .option('--site <site>', 'the site that its devices belong to')
    .option('--range <range>', 'addresses, in place of all its ranges; may repeat', collect, [])
    .option(
      '--exclude <range>',
      'addresses to leave out, in place of all it leaves out; "none": leave out nothing; may repeat',
      collect,
      [],
    )
    .option(
      '--credential <name>',
      'credentials to try, in order, in place of all its credentials; "none": try none; may repeat',
      collect,
      [],
    )
    .option('--probe <probe>', 'only these probes: snmp, ssh, http, onvif, sip; may repeat', collect, [])
    .option('--snmp-port <port>', 'UDP port of SNMP')
    .option('--ssh-port <port>', 'TCP port of SSH')
    .option('--http-port <port>', 'TCP port of HTTP and ONVIF')
    .option('--https-port <port>', 'TCP port of HTTPS')
    .option('--ws-discovery-port <port>', 'UDP port of WS-Discovery')
    .option('--sip-port <port>', 'UDP port of SIP')
    .option('--rate <packets>', 'most packets in a second')
    .option('--store-address <address>', 'the address at which its devices see this service; "none": the usual one')
    .action(
      act(async ({ say, client }, name: string, o: NetworkOptions) => {
        const numbers = (
          [
            ['snmpPort', o.snmpPort],
            ['sshPort', o.sshPort],
            ['httpPort', o.httpPort],
            ['httpsPort', o.httpsPort],
            ['wsDiscoveryPort', o.wsDiscoveryPort],
            ['sipPort', o.sipPort],
            ['packetsPerSecond', o.rate],
          ] as const
        ).flatMap(([key, value]) => (value === undefined ? [] : [[key, Number(value)] as const]));
        const list = (given: readonly string[]): string[] => given.filter((one) => one !== 'none');
        const change = {
          ...Object.fromEntries(numbers),
          ...(o.site === undefined ? {} : { site: o.site }),
          ...(o.range.length > 0 ? { ranges: o.range } : {}),
          ...(o.exclude.length > 0 ? { exclude: list(o.exclude) } : {}),
          ...(o.credential.length > 0 ? { credentials: list(o.credential) } : {}),
          ...(o.probe.length > 0 ? { probes: o.probe as ProbeName[] } : {}),
          ...(o.storeAddress === undefined ? {} : { storeAddress: o.storeAddress === 'none' ? null : o.storeAddress }),
        };
        if (Object.keys(change).length === 0)
          throw new CommandError(
            exit.wrongUse,
            'nothing-to-change',
            'The network stays as it is',
            'You named nothing to change.',
            'Name what changes, e.g. `--range 127.40.1.1-60`. `barrow network list` shows the network.',
          );
        const made = await client().changeNetwork(name, change);
        print(
          say,
          made,
          () => `Network ${made.name}: ${made.addresses} addresses at ${made.site}. The next discovery uses it as it is now.`,
        );
      }),
    );
  network
    .command('trust <name>')
    .description('approve devices of known families that its next discovery finds: passwords go to whatever answers there then')
    .option('--not', 'take that back')
    .action(
      act(async ({ say, client }, name: string, o: { not?: boolean }) => {
        const made = await client().changeNetwork(name, { trustNow: o.not !== true });
        print(say, made, () =>
          made.trustNow
            ? `Devices of known families that the next discovery of ${made.name} finds are approved. All others wait for approval: \`barrow device waiting\`.`
            : `What is found in ${made.name} waits for approval: \`barrow device waiting\`.`,
        );
      }),
    );
  network
    .command('remove <name>')
    .description('remove a network; its devices stay known, but Barrow reads and upgrades them no more')
    .option('--yes', 'remove it although devices are known from it')
    .action(
      act(async ({ say, client }, name: string, o: { yes?: boolean }) => {
        const barrow = client();
        if (o.yes !== true) {
          const devices = (await barrow.deviceNames()).filter((d) => d.network === name).length;
          if (devices > 0)
            throw new CommandError(
              exit.refused,
              'network-has-devices',
              'The network stays',
              `Barrow knows ${count(devices, 'device')} from this network, and cannot read or upgrade them without it.`,
              `Remove it all the same: \`barrow network remove ${name} --yes\`. To change it: \`barrow network set ${name}\`.`,
            );
        }
        const done = await barrow.removeNetwork(name);
        print(say, done, () => `Network ${done.removed} removed.`);
      }),
    );

  const credential = program.command('credential').description('secrets for SNMP, SSH, HTTP and ONVIF; sealed, never shown again');
  credential
    .command('add <name>')
    .description('add a credential; the secret comes from a file, the environment or standard input')
    .requiredOption('--kind <kind>', credentialKinds.join(', '))
    .option('--user <user>', 'the user to log in as')
    .option('--secret-file <file>', 'file that holds the secret ("-": standard input)')
    .option('--secret-env <variable>', 'environment variable that holds the secret')
    .option('--second-file <file>', 'the second secret: SNMP v3 privacy key, passphrase of an SSH key, second word of a password')
    .option('--second-env <variable>', 'environment variable that holds the second secret')
    .option('--raise-file <file>', 'the second word that gives more rights, beside an SSH key')
    .option('--raise-env <variable>', 'environment variable that holds that word')
    .option('--replace', 'put another secret into the credential of this name')
    .option('--auth <hash>', 'SNMP v3 authentication: sha1 or sha256')
    .action(
      act(
        async (
          { say, client },
          name: string,
          o: {
            replace?: boolean;
            kind: string;
            user?: string;
            secretFile?: string;
            secretEnv?: string;
            secondFile?: string;
            secondEnv?: string;
            raiseFile?: string;
            raiseEnv?: string;
            auth?: string;
          },
        ) => {
          const given = {
            name,
            kind: o.kind as CredentialKind,
            user: o.user ?? null,
            secret: await secretFrom(o, say.io),
            second: o.secondFile || o.secondEnv ? await secretFrom({ secretFile: o.secondFile, secretEnv: o.secondEnv }, say.io) : null,
            raise: o.raiseFile || o.raiseEnv ? await secretFrom({ secretFile: o.raiseFile, secretEnv: o.raiseEnv }, say.io) : null,
            auth: (o.auth as 'sha1' | undefined) ?? null,
          };
          const made = await (o.replace ? client().replaceCredential(given) : client().addCredential(given));
          print(
            say,
            made,
            () =>
              `Credential ${made.name} (${made.kind}${made.user ? `, user ${made.user}` : ''}${made.hasSecond ? ', with a second secret' : ''}) sealed.`,
          );
        },
      ),
    );
  credential
    .command('list')
    .description('the credentials, without their secrets')
    .action(
      act(async ({ say, client }) => {
        const all = await client().credentials();
        print(say, all, () =>
          all.length === 0
            ? 'No credentials yet. Add one: `barrow credential add NAME --kind KIND`.'
            : table(
                say.io,
                ['NAME', 'KIND', 'USER', 'SECOND', 'NETWORKS', 'WORKED ON', 'ADDED'],
                all.map((n) => [
                  n.name,
                  [n.kind, n.auth].filter(Boolean).join(' '),
                  n.user,
                  n.hasSecond ? 'yes' : null,
                  n.networks.join(', ') || 'none',
                  n.devices,
                  clock(n.createdAt),
                ]),
                [5],
              ),
        );
      }),
    );
  credential
    .command('remove <name>')
    .description('remove a credential that no network names')
    .action(
      act(async ({ say, client }, name: string) => {
        const done = await client().removeCredential(name);
        print(say, done, () => `Credential ${done.removed} removed.`);
      }),
    );

  const token = program.command('token').description('access to this service');
  token
    .command('add <name>')
    .description('make a token; its text is told once')
    .option('--role <role>', 'viewer, operator or admin', 'viewer')
    .action(
      act(async ({ say, client }, name: string, o: { role: string }) => {
        const made = await client().addToken({ name, role: o.role as 'viewer' });
        print(say, made, () => `${made.token}\n\nToken ${made.name} (${made.role}). Keep it now: it is not shown again.`);
      }),
    );
  token
    .command('list')
    .description('the tokens, without their texts')
    .action(
      act(async ({ say, client }) => {
        const all = await client().tokens();
        print(say, all, () =>
          table(
            say.io,
            ['NAME', 'ROLE', 'MADE', 'LAST USED'],
            all.map((t) => [t.name, t.role, clock(t.createdAt), clock(t.lastUsed)]),
          ),
        );
      }),
    );
  token
    .command('remove <name>')
    .description('remove a token; it opens nothing from then on')
    .action(
      act(async ({ say, client }, name: string) => {
        const done = await client().removeToken(name);
        print(say, done, () => `Token ${done.removed} removed.`);
      }),
    );
};
