import { z, type OpenAPIHono } from '@hono/zod-openapi';
import {
  CauseError,
  draftQuery,
  familyTrialInput,
  familyTrialSchema,
  recordingAnswerSchema,
  recordingInput,
  recordingSay,
  recordingSchema,
  safeText,
  type AuditChange,
  type Kind,
} from '@barrow/core';
import {
  changingSteps,
  draftFamily,
  ExamplesUnlike,
  familyJsonSchema,
  hideInLines,
  linesThatAsk,
  onlyAsk,
  FamilyFileError,
  parseFamily,
  type ProcedureName,
} from '@barrow/families';
import { rfc3339 } from '../context.js';
import { ObservationEntity } from '../data/entities.js';
import { Refusal } from '../errors.js';
import type { Parts } from '../parts.js';
import { everyWord } from '../touch/credential-words.js';
import { hideWords, secretLines } from '../touch/secrets.js';
import { Touch } from '../touch/touch.js';
import type { Env } from './auth.js';
import { addOperation, idParam } from './operation.js';

/** What of each probe's answers gear is known by. */
const knownBy: Readonly<Record<string, readonly string[]>> = {
  snmp: ['objectId', 'description'],
  ssh: ['identification'],
  http: ['server', 'realm', 'title'],
  onvif: ['manufacturer', 'model', 'hardware'],
  sip: ['userAgent', 'server'],
};

/** What a procedure of a file sends to a device, for the audit log. */
function sentBy(text: string, procedure: string, hide: (text: string) => string): AuditChange[] {
  const found = parseFamily(text, 'line').procedures[procedure as ProcedureName];
  if (!found) return [];
  const all = changingSteps(found, new Set());
  return [
    { field: 'procedure', from: null, to: procedure },
    ...all.slice(0, 30).map((sent) => ({ field: 'sent', from: null, to: safeText(hide(sent), 300) })),
  ];
}

/** How a person teaches the service gear that it does not know: a draft, a session to do it once by hand, and a trial. */
export function teachingRoutes(app: OpenAPIHono<Env>, { context, devices, recordings, runner }: Parts): void {
  const { db } = context;
  /** Hides every secret of the credentials, and what stands in lines that hold one on most devices. */
  const hideOwn = async (more: readonly string[] = []): Promise<(text: string) => string> => {
    const words = await everyWord(context);
    return (text) => hideWords(hideInLines(text, [...more, ...secretLines]), words);
  };
  addOperation(app, {
    method: 'get',
    path: '/api/v1/devices/{id}/family-draft',
    role: 'viewer',
    summary: 'A family file to begin with, drafted from what a device answered (YAML)',
    params: idParam,
    query: draftQuery,
    answer: z.object({ family: z.string(), text: z.string() }),
    run: async ({ params, query }) => {
      const { row } = await devices.get(params.id);
      const observations = await db.find(ObservationEntity, { device: row.id }, { orderBy: { lastAt: 'desc', id: 'asc' }, limit: 40 });
      const told = (probe: string, key: string): string | null => {
        const found = observations.find((o) => o.probe.toLowerCase().startsWith(probe) && typeof o.parsed[key] === 'string');
        return (found?.parsed[key] as string | undefined) ?? null;
      };
      const answers = Object.fromEntries(
        Object.entries(knownBy).map(([probe, keys]) => [
          probe,
          Object.fromEntries(
            keys.flatMap((key) => [told(probe, key)].flatMap((v) => (v === null || v === '' ? [] : [[key, v]]))),
          ) as Record<string, string>,
        ]),
      );
      const version = row.firmware ?? told('snmp', 'firmware');
      const versions = (query.versions ?? version ?? '')
        .split(',')
        .map((v) => v.trim())
        .filter((v) => v !== '');
      if (versions.length === 0)
        throw new Refusal(
          422,
          'versions-unknown',
          'Nothing can be drafted',
          `No standard answer of ${row.name} tells its version.`,
          'Name two or three versions of it, the oldest first: --versions "1.9.2, 1.10.0, 2.0.1".',
        );
      const title = query.title ?? told('http', 'title') ?? row.model ?? row.name;
      const family =
        query.family ??
        (title
          .toLowerCase()
          .replaceAll(/[^a-z0-9]+/g, '-')
          .replaceAll(/^[^a-z]+|-+$/g, '') ||
          'unnamed');
      try {
        const text = draftFamily({
          family,
          title,
          maker: query.maker ?? row.maker ?? 'its maker',
          kind: query.kind ?? (row.kind as Kind),
          model: query.model ?? row.model ?? title,
          revision: row.hardwareRevision,
          device: row.name,
          date: rfc3339(Date.now()).slice(0, 10),
          answers,
          versions,
          told: version,
        });
        return { family, text };
      } catch (error) {
        if (!(error instanceof ExamplesUnlike)) throw error;
        throw new Refusal(
          422,
          'versions-unlike',
          'Nothing can be drafted',
          `${error.message[0]!.toUpperCase()}${error.message.slice(1)}.`,
          'Name versions of one shape, the oldest first; what is spelt otherwise is added to the file by hand.',
        );
      }
    },
  });
  addOperation(app, {
    method: 'get',
    path: '/api/v1/family-schema',
    role: 'viewer',
    summary: 'JSON Schema of a family file, for editors',
    answer: z.record(z.string(), z.unknown()),
    run: () => Promise.resolve({ ...familyJsonSchema() }),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/recordings',
    role: 'admin',
    summary: 'Open a session on a device in which a person does by hand what a procedure is to do',
    body: recordingInput,
    answer: recordingSchema,
    status: 201,
    run: ({ body }) => recordings.begin(body.device, body.over),
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/recordings/{id}/say',
    role: 'admin',
    summary: 'Send what a person typed in such a session, as it is, and tell what came',
    params: idParam,
    body: recordingSay,
    answer: recordingAnswerSchema,
    // What a person types may be a password: the audit log keeps that something was typed, and not what.
    audit: async () => ({ changes: [] }),
    run: ({ params, body }) => recordings.say(params.id, body.text, body.headers),
  });
  addOperation(app, {
    method: 'delete',
    path: '/api/v1/recordings/{id}',
    role: 'admin',
    summary: 'End such a session',
    params: idParam,
    answer: z.object({ ended: z.string() }),
    run: ({ params }) => {
      recordings.end(params.id);
      return Promise.resolve({ ended: params.id });
    },
  });
  addOperation(app, {
    method: 'post',
    path: '/api/v1/family-trials',
    role: 'admin',
    summary: 'Carry out a procedure that only asks, of a family file that need not be added, on a device',
    audit: async ({ body }) => ({
      subject: (await devices.get(body.device)).row.name,
      changes: sentBy(body.text, body.procedure, await hideOwn()),
    }),
    body: familyTrialInput,
    mostBody: 1_100_000,
    answer: familyTrialSchema,
    run: async ({ body, c }) => {
      const refuse = (status: 409 | 422, code: string, why: string, next: string): Refusal =>
        new Refusal(status, code, 'Nothing was tried', why, next);
      const name = onlyAsk.find((n) => n === body.procedure);
      if (name === undefined)
        throw refuse(
          422,
          'procedure-changes',
          `${body.procedure} is none of those that only ask.`,
          `On a device ${onlyAsk.join(', ')} can be tried.`,
        );
      let family;
      try {
        family = parseFamily(body.text, 'line');
      } catch (error) {
        if (!(error instanceof FamilyFileError)) throw error;
        throw refuse(422, 'family-file', error.message, 'Mend these; `barrow family check FILE` tells them without the service.');
      }
      if (!family.procedures[name])
        throw refuse(422, 'procedure-missing', `The file has no procedure ${name}.`, 'Write or record it first.');
      const { row } = await devices.get(body.device);
      const own = row.family === null ? undefined : context.families.get(row.family);
      const changing = body.mayChange ? [] : changingSteps(family.procedures[name], own ? linesThatAsk(own) : new Set());
      if (changing.length > 0)
        throw refuse(
          422,
          'trial-may-change',
          `${name} does what may change the device: ${changing.slice(0, 5).join('; ')}${changing.length > 5 ? ` and ${changing.length - 5} more` : ''}.`,
          'Read these steps. If they only ask, say so: `barrow family try FILE --against DEVICE --may-change`.',
        );
      const rollout = runner.rolloutOf(row.id);
      if (rollout !== null) throw refuse(409, 'device-busy', `${row.name} is in the rollout ${rollout}.`, 'Wait until that has ended.');
      const touch = new Touch(context, row, family);
      c.set('deed', 'tried');
      try {
        const { gives, tables } = await touch.run(name);
        // What is secret is known by our own rules: the file that is tried may call nothing secret.
        const hideOurs = await hideOwn(own?.configuration?.secrets);
        const hide = (text: string): string => hideOurs(touch.hide(text));
        const hideRow = (of: Readonly<Record<string, string>>): Record<string, string> =>
          Object.fromEntries(Object.entries(of).map(([key, value]) => [key, hide(value)]));
        return {
          device: row.name,
          procedure: name,
          gives: hideRow(gives),
          tables: Object.fromEntries(Object.entries(tables).map(([of, rows]) => [of, rows.map(hideRow)])),
          conversation: hide(touch.conversation()),
        };
      } catch (error) {
        if (!(error instanceof CauseError)) throw error;
        throw refuse(409, error.code, `${row.name}: ${error.detail}`, 'Look at what was said, and mend the procedure; then try it again.');
      } finally {
        touch.close();
      }
    },
  });
}
