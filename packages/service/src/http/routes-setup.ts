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
import type { Env, Who } from './auth.js';
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

/** Who says where credentials are tried decides who gets them. @throws Refusal */
function needAdmin(who: Who, because: string): void {
  if (who.role !== 'admin')
    throw new Refusal(
      403,
      'credentials-need-admin',
      'The network was not added',
      `${who.name} is ${who.role}. ${because} to whatever answers there, which is an admin's to say.`,
      'Ask an admin, or leave the credentials out.',
    );
}

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
    role: 'operator',
    summary: 'Add a network to look in; to name credentials there, or to trust what is found, takes an admin',
    body: networkInput,
    answer: networkSchema,
    status: 201,
    run: async ({ body, who }) => {
      if (body.trustNow) needAdmin(who, 'Trusting what is found sends credentials');
      if (body.credentials.length > 0) needAdmin(who, 'Naming credentials in a network sends them');
      try {
        const addresses = countAddresses(body.ranges, body.exclude);
        if (addresses > mostInOneNetwork)
          throw new RangeMalformed(
            body.ranges.length === 1
              ? `"${body.ranges[0]}" has ${addresses} addresses; ${mostInOneNetwork} is the most`
              : `the ranges have ${addresses} addresses together; ${mostInOneNetwork} is the most`,
          );
        const nowhere = rangeOfNoDevices(body.ranges);
        if (nowhere !== null) throw new RangeMalformed(`"${nowhere}" is where no device is: link-local, multicast, or reserved`);
        if (addresses === 0) throw new RangeMalformed('the exclusions leave no address');
      } catch (error) {
        if (!(error instanceof RangeMalformed)) throw error;
        throw new Refusal(
          422,
          'range-malformed',
          'The network was not added',
          `${error.message}.`,
          'Give ranges such as 127.40.1.0/24, 127.40.1.1-127.40.1.40, 127.40.1.1-40 or 127.40.1.7.',
        );
      }
      if (await db.keptOne(NetworkEntity, 'name', body.name))
        throw new Refusal(
          409,
          'network-name-taken',
          'The network was not added',
          `There is a network "${body.name}" already.`,
          'Choose another name, or remove that network first.',
        );
      const known = await db.find(CredentialEntity);
      const credentials = body.credentials.map((asked) => {
        const found = known.find((c) => c.id === asked || c.name === asked);
        if (!found) throw notFound('credential', asked, '`barrow credential list` shows them; add it with `barrow credential add`.');
        return found.id;
      });
      const row: NetworkRow = { ...body, id: newId('n'), credentials };
      await db.write(async (em) => em.insert(NetworkEntity, row));
      context.live.changed('networks');
      return networkView(row, new Map(known.map((c) => [c.id, c.name])));
    },
  });
  addOperation(app, {
    method: 'put',
    path: '/api/v1/networks/{id}',
    role: 'admin',
    summary: 'Trust what the next discovery of a network finds, or no longer',
    params: idParam,
    body: networkChange,
    answer: networkSchema,
    run: async ({ params, body }) => {
      const row = (await db.find(NetworkEntity)).find((n) => n.id === params.id || n.name === params.id);
      if (!row) throw notFound('network', params.id, '`barrow network list` shows them.');
      await db.write(async (em) => em.nativeUpdate(NetworkEntity, { id: row.id }, body));
      context.live.changed('networks');
      return networkView({ ...row, ...body }, await credentialNames());
    },
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/networks/{id}',
    role: 'operator',
    summary: 'Remove a network; the devices found in it stay known',
    params: idParam,
    answer: removed,
    run: async ({ params }) => {
      const row = (await db.find(NetworkEntity)).find((n) => n.id === params.id || n.name === params.id);
      if (!row) throw notFound('network', params.id, '`barrow network list` shows them.');
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
