import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  aboutSchema,
  countAddresses,
  mostInOneNetwork,
  networkChange,
  rangeOfNoDevices,
  credentialInput,
  credentialSchema,
  healthSchema,
  networkInput,
  networkSchema,
  RangeMalformed,
  tokenInput,
  tokenSchema,
  type Credential,
  type Network,
} from '@barrow/core';
import { rfc3339, rfc3339OrNull } from '../context.js';
import { CredentialEntity, NetworkEntity, type CredentialRow, type NetworkRow } from '../data/entities.js';
import { newId } from '../data/seal.js';
import { notFound, Refusal } from '../errors.js';
import { notWritten } from '../runner/view.js';
import type { Parts } from '../parts.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

const removed = z.object({ removed: z.string() });

function networkView(row: NetworkRow, nameOf: ReadonlyMap<string, string>): Network {
  return {
    ...row,
    probes: row.probes as Network['probes'],
    credentials: row.credentials.map((id) => nameOf.get(id) ?? id),
    addresses: countAddresses(row.ranges, row.exclude),
  };
}

/** @throws Refusal when no device can be in the ranges, or when they are too many addresses. */
function checkRanges({ ranges, exclude }: Pick<NetworkRow, 'ranges' | 'exclude'>, title: string): void {
  try {
    const addresses = countAddresses(ranges, exclude);
    if (addresses > mostInOneNetwork)
      throw new RangeMalformed(
        ranges.length === 1
          ? `"${ranges[0]}" has ${addresses} addresses; ${mostInOneNetwork} is the most`
          : `the ranges have ${addresses} addresses together; ${mostInOneNetwork} is the most`,
      );
    const nowhere = rangeOfNoDevices(ranges);
    if (nowhere !== null) throw new RangeMalformed(`"${nowhere}" is where no device is: link-local, multicast, or reserved`);
    if (addresses === 0) throw new RangeMalformed('the exclusions leave no address');
  } catch (error) {
    if (!(error instanceof RangeMalformed)) throw error;
    throw new Refusal(
      422,
      'range-malformed',
      title,
      `${error.message}.`,
      'Give ranges such as 127.40.1.0/24, 127.40.1.1-127.40.1.40, 127.40.1.1-40 or 127.40.1.7.',
    );
  }
}

/** @throws Refusal for a credential that nobody added. */
const credentialIds = (asked: readonly string[], known: readonly CredentialRow[]): string[] =>
  asked.map((one) => {
    const found = known.find((c) => c.id === one || c.name === one);
    if (!found)
      throw notFound('credential', one, '`barrow credential list` shows them; add it with `barrow credential add NAME --kind KIND`.');
    return found.id;
  });

/** @throws Refusal for a credential that could never work. */
function checkCredential(body: z.output<typeof credentialInput>): void {
  const refuse = (code: string, why: string, next: string): never => {
    throw new Refusal(422, code, 'The credential was not added', why, next);
  };
  if (body.kind !== 'snmp-v2c' && body.kind !== 'http-token' && !body.user)
    refuse('credential-without-user', `A credential of kind ${body.kind} belongs to a user.`, 'Give the user with --user.');
  if (body.kind === 'snmp-v3')
    for (const [what, key] of [
      ['authentication', body.secret],
      ['privacy', body.second],
    ] as const)
      // RFC 3414 §11.2: passwords of the user-based security model have at least eight characters.
      if (key !== null && key.length < 8)
        refuse(
          'credential-too-short',
          `The ${what} key has ${key.length} characters; SNMP v3 asks for at least 8.`,
          'Give the key as it was set on the devices.',
        );
  if (body.raise !== null && body.kind !== 'ssh-key')
    refuse(
      'credential-raise-unfit',
      `Only a key takes its second word apart; a credential of kind ${body.kind} does not.`,
      body.kind === 'ssh-password' ? 'Give the second word with --second-file or --second-env.' : 'Leave it out.',
    );
  if (body.kind === 'ssh-key' && !body.secret.includes('PRIVATE KEY'))
    refuse('credential-no-key', 'This is no private key.', 'Give the file of the private key (PEM or OpenSSH form), not the public one.');
}

/** Networks, credentials, families, tokens, and what service this is. */
export function setupRoutes(app: OpenAPIHono<Env>, parts: Parts): void {
  const { context, tokens, devices } = parts;
  const { db } = context;

  addOperation(app, {
    method: 'get',
    path: '/api/v1/about',
    role: 'viewer',
    summary: 'What service this is, and who asks',
    answer: aboutSchema,
    run: async ({ who }) => ({
      name: 'Barrow' as const,
      version: parts.version,
      role: who.role,
      who: who.name,
      tftp: `${context.options.tftpListen.host}:${parts.tftp.port}`,
      startedAt: rfc3339(parts.startedAt),
    }),
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/health',
    role: 'viewer',
    summary: 'What keeps the service itself from working, if anything',
    answer: healthSchema,
    run: async () => ({ troubles: context.db.trouble === null ? [] : [notWritten(context.db.trouble)] }),
  });

  const credentialNames = async (): Promise<Map<string, string>> => new Map((await db.find(CredentialEntity)).map((c) => [c.id, c.name]));

  addOperation(app, {
    method: 'get',
    path: '/api/v1/networks',
    role: 'viewer',
    summary: 'Where devices are looked for',
    answer: z.object({ items: z.array(networkSchema) }),
    run: async () => {
      const names = await credentialNames();
      return { items: (await db.find(NetworkEntity, {}, { orderBy: { name: 'asc' } })).map((n) => networkView(n, names)) };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/networks',
    role: 'admin',
    summary: 'Add a network to look in: it says which credentials are sent to which addresses and ports',
    body: networkInput,
    answer: networkSchema,
    status: 201,
    run: async ({ body }) => {
      checkRanges(body, 'The network was not added');
      if (await db.keptOne(NetworkEntity, 'name', body.name))
        throw new Refusal(
          409,
          'network-name-taken',
          'The network was not added',
          `There is a network "${body.name}" already.`,
          'Choose another name, or change that network with `barrow network set`.',
        );
      const known = await db.find(CredentialEntity);
      const row: NetworkRow = { ...body, id: newId('n'), credentials: credentialIds(body.credentials, known) };
      await db.write(async (em) => em.insert(NetworkEntity, row));
      context.live.changed('networks');
      return networkView(row, new Map(known.map((c) => [c.id, c.name])));
    },
  });
  const networkNamed = async (asked: string): Promise<NetworkRow> => {
    const row = (await db.find(NetworkEntity)).find((n) => n.id === asked || n.name === asked);
    if (!row) throw notFound('network', asked, '`barrow network list` shows them.');
    return row;
  };
  addOperation(app, {
    method: 'put',
    path: '/api/v1/networks/{id}',
    role: 'admin',
    summary: 'Change a network: its ranges, ports, credentials, store address, and whether the next discovery trusts what it finds',
    params: idParam,
    body: networkChange,
    answer: networkSchema,
    audit: async ({ params }) => {
      const row = await networkNamed(params.id);
      return { subject: row.name, before: { ...networkView(row, await credentialNames()) } };
    },
    run: async ({ params, body }) => {
      const row = await networkNamed(params.id);
      if (body.ranges || body.exclude)
        checkRanges({ ranges: body.ranges ?? row.ranges, exclude: body.exclude ?? row.exclude }, 'The network was not changed');
      const { credentials, ...rest } = body;
      const change = { ...rest, ...(credentials ? { credentials: credentialIds(credentials, await db.find(CredentialEntity)) } : {}) };
      await db.write(async (em) => em.nativeUpdate(NetworkEntity, { id: row.id }, change));
      context.live.changed('networks');
      return networkView({ ...row, ...change }, await credentialNames());
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/networks/{id}',
    role: 'admin',
    summary: 'Remove a network; the devices found in it stay known',
    params: idParam,
    answer: removed,
    run: async ({ params }) => {
      const row = await networkNamed(params.id);
      await db.write(async (em) => em.nativeDelete(NetworkEntity, { id: row.id }));
      context.live.changed('networks');
      return { removed: row.name };
    },
  });

  const credentialView = (row: CredentialRow, networks: readonly NetworkRow[], devices: number): Credential => ({
    id: row.id,
    name: row.name,
    kind: row.kind as Credential['kind'],
    user: row.user,
    auth: row.settings.auth ?? null,
    hasSecond: row.second !== null || row.raise !== null,
    devices,
    createdAt: rfc3339(row.createdAt),
    networks: networks.filter((n) => n.credentials.includes(row.id)).map((n) => n.name),
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/credentials',
    role: 'viewer',
    summary: 'Credentials by name; a secret is never shown again',
    answer: z.object({ items: z.array(credentialSchema) }),
    run: async () => {
      const networks = await db.find(NetworkEntity);
      const used = new Map<string, number>();
      for (const { row } of await devices.all())
        for (const id of new Set([row.snmpCredential, ...Object.values(row.credentials)]))
          if (id !== null) used.set(id, (used.get(id) ?? 0) + 1);
      return {
        items: (await db.find(CredentialEntity, {}, { orderBy: { name: 'asc' } })).map((c) =>
          credentialView(c, networks, used.get(c.id) ?? 0),
        ),
      };
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/credentials',
    role: 'admin',
    summary: 'Add a credential; it is sealed at once',
    body: credentialInput,
    answer: credentialSchema,
    status: 201,
    run: async ({ body }) => {
      if (await db.findOne(CredentialEntity, { name: body.name }))
        throw new Refusal(
          409,
          'credential-name-taken',
          'The credential was not added',
          `There is a credential "${body.name}" already.`,
          'Choose another name, or remove that one first.',
        );
      checkCredential(body);
      const row: CredentialRow = {
        id: newId('c'),
        name: body.name,
        kind: body.kind,
        user: body.user,
        ...sealedParts(body),
      };
      await db.write(async (em) => em.insert(CredentialEntity, row));
      context.live.changed('credentials');
      return credentialView(row, [], 0);
    },
  });
  const sealedParts = (
    body: z.output<typeof credentialInput>,
  ): Pick<CredentialRow, 'sealed' | 'second' | 'raise' | 'settings' | 'createdAt'> => ({
    sealed: context.sealer.seal(body.secret),
    second: body.second === null ? null : context.sealer.seal(body.second),
    raise: body.raise === null ? null : context.sealer.seal(body.raise),
    settings: body.kind === 'snmp-v3' ? { auth: body.auth ?? 'sha256' } : {},
    // Refusals from before this moment are of another secret.
    createdAt: Date.now(),
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/credentials/{id}',
    role: 'admin',
    summary: 'Put another secret into a credential; the networks that name it keep it, and refusals of the old one lapse',
    params: idParam,
    body: credentialInput.omit({ name: true }),
    answer: credentialSchema,
    run: async ({ params, body }) => {
      const row = (await db.find(CredentialEntity)).find((n) => n.id === params.id || n.name === params.id);
      if (!row) throw notFound('credential', params.id, '`barrow credential list` shows them.');
      if (row.kind !== body.kind)
        throw new Refusal(
          409,
          'credential-of-another-kind',
          'The credential stays as it was',
          `${row.name} is of kind ${row.kind}, not ${body.kind}.`,
          'Add one of the other kind under another name.',
        );
      const given = { ...body, name: row.name };
      checkCredential(given);
      const next = { user: body.user ?? row.user, ...sealedParts(given) };
      await db.write(async (em) => em.nativeUpdate(CredentialEntity, { id: row.id }, next as never));
      context.doubts.forget(row.id);
      context.live.changed('credentials');
      return credentialView({ ...row, ...next }, await db.find(NetworkEntity), 0);
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/credentials/{id}',
    role: 'admin',
    summary: 'Remove a credential that no network names',
    params: idParam,
    answer: removed,
    run: async ({ params }) => {
      const row = (await db.find(CredentialEntity)).find((n) => n.id === params.id || n.name === params.id);
      if (!row) throw notFound('credential', params.id, '`barrow credential list` shows them.');
      const users = (await db.find(NetworkEntity)).filter((n) => n.credentials.includes(row.id));
      if (users.length > 0)
        throw new Refusal(
          409,
          'credential-needed',
          'The credential stays',
          `It is named by ${users.map((n) => n.name).join(', ')}.`,
          'Remove it from those networks first.',
        );
      await db.write(async (em) => em.nativeDelete(CredentialEntity, { id: row.id }));
      context.live.changed('credentials');
      return { removed: row.name };
    },
  });

  addOperation(app, {
    method: 'get',
    path: '/api/v1/tokens',
    role: 'admin',
    summary: 'Access tokens by name',
    answer: z.object({ items: z.array(tokenSchema) }),
    run: async () => ({
      items: tokens.list().map(({ id, name, role, createdAt, lastUsed }) => ({
        id,
        name,
        role,
        createdAt: rfc3339(createdAt),
        lastUsed: rfc3339OrNull(lastUsed),
      })),
    }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/tokens',
    role: 'admin',
    summary: 'Make an access token; its text is told once',
    body: tokenInput,
    answer: tokenSchema.extend({ token: z.string() }),
    status: 201,
    run: async ({ body }) => {
      const { row, text } = await tokens.add(body.name, body.role);
      return { id: row.id, name: row.name, role: row.role, createdAt: rfc3339(row.createdAt), lastUsed: null, token: text };
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/tokens/{id}',
    role: 'admin',
    summary: 'Remove an access token; it opens nothing from now on',
    params: idParam,
    answer: removed,
    run: async ({ params }) => {
      const all = tokens.list();
      const row = all.find((t) => t.id === params.id || t.name === params.id);
      if (!row) throw notFound('token', params.id, '`barrow token list` shows them.');
      if (row.role === 'admin' && all.filter((t) => t.role === 'admin').length === 1)
        throw new Refusal(
          409,
          'last-admin',
          'The token stays',
          'It is the last one with the role admin.',
          'Make another admin token first.',
        );
      await tokens.remove(row);
      return { removed: row.name };
    },
  });
}
