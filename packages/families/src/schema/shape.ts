import {
  causes,
  closedObject,
  meantText,
  components,
  inRange,
  isZone,
  kinds,
  rungMeans,
  versionRangeSchema,
  type Way,
  type WayStep,
} from '@barrow/core';
import { isIP } from 'node:net';
import { RE2JS } from 're2js';
import { z } from 'zod';

const causeCodes = causes.map((c) => c.code) as [string, ...string[]];

/** A pattern in RE2 syntax, which runs in linear time whatever a device answers. */
const patternText = z.string().superRefine((source, context) => {
  try {
    RE2JS.compile(source);
  } catch (error) {
    context.addIssue({ code: 'custom', message: `not a pattern in RE2 syntax: ${(error as Error).message}` });
  }
});

const spanUnits: Record<string, number> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000 };

/** A span of time such as `90 s`, read to milliseconds. */
const spanWords = 'a span of time is a number and ms, s, min or h';
const span = z
  .string({ error: spanWords })
  .regex(/^\d+(\.\d+)? ?(ms|s|min|h)$/, spanWords)
  .transform((text) => {
    const [, number, unit] = /^([\d.]+) ?(\w+)$/.exec(text)!;
    return Number(number) * spanUnits[unit!]!;
  });

/** The shapes of each `oneOf`, for who writes down what may stand there. */
export const alternatives = new Map<z.ZodType, { readonly name: string; readonly shapes: Readonly<Record<string, z.ZodType>> }>();

/** Which of several shapes a text of the file has, the one key that it has of theirs says. */
function oneOf<T>(name: string, what: string, shapes: Readonly<Record<string, unknown>>): z.ZodType<T> {
  const made = z.unknown().transform((raw, context): T => {
    const found = raw !== null && typeof raw === 'object' ? Object.keys(shapes).filter((k) => k in raw) : [];
    if (found.length !== 1) {
      const names = Object.keys(shapes);
      const given = found.length > 0 || raw === null || typeof raw !== 'object' ? [] : Object.keys(raw);
      const near = given.map((key) => meantText(key, names)).find((text) => text !== '') ?? '';
      context.addIssue({ code: 'custom', message: `${what} exactly one of ${names.join(', ')}${near}` });
      return z.NEVER;
    }
    const parsed = (shapes[found[0]!] as z.ZodType<T>).safeParse(raw);
    if (parsed.success) return parsed.data;
    for (const issue of parsed.error.issues) context.issues.push({ ...issue, input: raw } as never);
    return z.NEVER;
  });
  alternatives.set(made, { name, shapes: shapes as Readonly<Record<string, z.ZodType>> });
  return made as never;
}

const name = z.string().regex(/^[a-z][A-Za-z0-9]*$/, 'a name begins with a small letter and holds letters and digits');
const template = z.string();

const failPattern = closedObject({ when: patternText, cause: z.enum(causeCodes) });

const plainCondition = closedObject({
  value: template,
  is: template.optional(),
  isNot: template.optional(),
  atLeast: template.optional(),
  matches: patternText.optional(),
});
export type PlainCondition = z.infer<typeof plainCondition>;
/** A comparison, or several of which any or all must hold, or one that must not. */
export type Condition = PlainCondition | { any: Condition[] } | { all: Condition[] } | { not: Condition };
const several = z.lazy(() => z.array(condition).min(1));
const conditionKinds = {
  value: plainCondition,
  any: closedObject({ any: several }),
  all: closedObject({ all: several }),
  not: closedObject({ not: z.lazy(() => condition) }),
};
const condition: z.ZodType<Condition> = oneOf<Condition>('condition', 'a condition has', conditionKinds);

/** An object identifier in digits and points, of which a part may be a value. */
const oid = z
  .string()
  .regex(/^(\d+|\$\{[A-Za-z0-9.]+\})(\.(\d+|\$\{[A-Za-z0-9.]+\}))+$/, 'an object identifier is numbers with points between them');

const sayStep = closedObject({
  /** What is typed; a line end is added. */
  say: template,
  /** What ends the answer, instead of the prompt. */
  until: patternText.optional(),
  limit: span.optional(),
  /** Patterns whose named groups become values. */
  capture: z.array(patternText).optional(),
  /** Every line that matches becomes a row of named groups. */
  rows: closedObject({ into: name, pattern: patternText }).optional(),
  /** The whole answer, kept under this name. */
  keep: name.optional(),
  fails: z.array(failPattern).optional(),
  /** Its group `percent` is told while the answer is still coming. */
  progress: patternText.optional(),
  /** The device is expected to end the session. */
  endedBy: name.optional(),
  endsSession: z.boolean().optional(),
});

/** Header fields of a request, besides those that Barrow sets itself (RFC 9110 §5). */
const headers = z.record(z.string().regex(/^[A-Za-z][A-Za-z0-9-]*$/, 'a header is named like X-Requested-With'), template);

const getStep = closedObject({
  /** A page of the device, read over HTTP with the credential that fits. */
  get: template,
  headers: headers.optional(),
  limit: span.optional(),
  capture: z.array(patternText).optional(),
  rows: closedObject({ into: name, pattern: patternText }).optional(),
  /** A list in a JSON answer: every object of it becomes a row. `at` names the key that holds it; keys within keys have points between them. */
  json: closedObject({ into: name, at: z.string().optional() }).optional(),
  /** Single values of a JSON answer: names to keys. */
  fields: z.record(name, z.string()).optional(),
  keep: name.optional(),
  fails: z.array(failPattern).optional(),
});

/** A request to a page of the device that asks for more than reading. */
const requestStep = getStep.omit({ get: true }).extend({
  request: template,
  method: z.enum(['GET', 'POST', 'PUT', 'DELETE']).default('POST'),
  body: template.optional(),
  type: z.string().default('text/plain'),
});

/** Every file of the image, in the order stated here or else in its own, is carried to the device, with `${fileName}`, `${fileBytes}` and `${fileSha256}` set. */
const uploadStep = closedObject({
  /** Where to: a page, or a path. */
  upload: template,
  /** By a form (multipart) or as a bare body over HTTP, by SFTP or SCP over SSH, or to who listens for it by TFTP. */
  over: z.enum(['http-form', 'http-body', 'sftp', 'scp', 'tftp']),
  /** To its boot loader, where that is met; it asks for no login. */
  as: z.literal('loader').optional(),
  /** Patterns of names: files that fit the first go first, and so on; those that fit none go last. */
  order: z.array(patternText).optional(),
  /** The field of the form. */
  field: z.string().default('file'),
  /** Other fields of the form. */
  fields: z.record(z.string().regex(/^[^"\r\n]+$/, 'a field name has no quotes'), template).optional(),
  headers: headers.optional(),
  method: z.enum(['POST', 'PUT']).default('POST'),
  /** How long nothing may move. */
  limit: span.optional(),
  capture: z.array(patternText).optional(),
  fails: z.array(failPattern).optional(),
});

/** Does the same for every file of the image, in its order, with `${fileName}`, `${fileBytes}` and `${fileSha256}` set. */
export interface EachFileStep {
  eachFile: ProcedureStep[];
}
/** A file of the device, which its steps make it send by TFTP under `${receiveName}` to `${storeAddress}` port `${storePort}`. */
export interface ReceiveStep {
  /** The name under which its content is kept. */
  receive: string;
  /** How long it may take to come whole after the last of the steps. */
  limit?: number | undefined;
  do: ProcedureStep[];
}

/** A SIP request (RFC 3261) outside of a dialog; its answer is the status line, the headers and what comes after them. */
const sipStep = closedObject({
  sip: z.enum(['OPTIONS', 'MESSAGE', 'NOTIFY']),
  /** What a NOTIFY tells of (RFC 6665). */
  event: z.string().optional(),
  body: template.optional(),
  type: z.string().default('text/plain'),
  limit: span.optional(),
  capture: z.array(patternText).optional(),
  fails: z.array(failPattern).optional(),
});
/** An operation of an ONVIF service, by its standard name; the device management service where nothing else is said. */
const onvifStep = closedObject({
  onvif: z.string().regex(/^[A-Z][A-Za-z]+$/, 'an operation is named as its standard does, e.g. GetDeviceInformation'),
  /** Where the service is. */
  path: template.optional(),
  /** The namespace of the service. */
  namespace: z.url().optional(),
  /** What stands inside of the operation's element, as XML; the namespace has the prefix `tds`. */
  body: template.optional(),
  limit: span.optional(),
  /** Single values of the answer: names to names of elements, an element within another after a point. */
  fields: z.record(name, z.string().regex(/^[A-Za-z]\w*(\.[A-Za-z]\w*)*$/, 'names of elements, with points between them')).optional(),
  capture: z.array(patternText).optional(),
  fails: z.array(failPattern).optional(),
});

/** Asks whoever looks after the rollout for something that only a person can tell; waits until they have answered. */
const askStep = closedObject({
  ask: closedObject({
    words: z.string().min(1).max(500),
    as: name,
    /** What an answer looks like; another is not taken. */
    fits: patternText.optional(),
    /** An example of one, for whoever gave another. */
    like: z.string().min(1).max(80).optional(),
    /** It is shown nowhere, and stands in no record. */
    secret: z.boolean().default(false),
  }),
});

/** Waits until the device has fetched all of the image from the store that it was offered in. */
const fetchedStep = closedObject({
  fetched: closedObject({
    /** How long nothing may move. */
    within: span,
  }),
});

const checkStep = closedObject({ check: condition, cause: z.enum(causeCodes), detail: template });
const setStep = closedObject({ set: z.record(name, template) });
const pickStep = closedObject({
  /** Takes the first row that meets the condition; its columns become values under `as`. */
  pick: closedObject({ from: name, where: condition, as: name, otherwise: z.enum(causeCodes).optional() }),
});

const waitStep = closedObject({
  /** Does nothing for so long. */
  wait: span,
});

/** SNMP (RFC 3416): single values by name, columns of a table as rows with their `index`, or values that are set. */
const snmpStep = closedObject({
  snmp: oneOf<SnmpAsk>('snmp', 'it has', {
    get: closedObject({ get: z.record(name, oid) }),
    rows: closedObject({ rows: closedObject({ into: name, columns: z.record(name, oid) }) }),
    set: closedObject({
      set: z.array(closedObject({ oid, type: z.enum(['integer', 'unsigned', 'text', 'oid', 'address']), value: template })).min(1),
    }),
  }),
  limit: span.optional(),
  /** What it means when the device does not let a value be set. */
  refused: z.enum(causeCodes).optional(),
});
export interface SnmpSet {
  oid: string;
  type: 'integer' | 'unsigned' | 'text' | 'oid' | 'address';
  value: string;
}
export type SnmpAsk = { get: Record<string, string> } | { rows: { into: string; columns: Record<string, string> } } | { set: SnmpSet[] };

type SayStep = z.infer<typeof sayStep>;
export type GetStep = z.infer<typeof getStep>;
type CheckStep = z.infer<typeof checkStep>;
type SetStep = z.infer<typeof setStep>;
type PickStep = z.infer<typeof pickStep>;
export type WaitStep = z.infer<typeof waitStep>;
export type SnmpStep = z.infer<typeof snmpStep>;
/** Does the same for every row of a table, or for those that fit; its columns become values under `as`. */
export interface ForEachStep {
  forEach: { from: string; as: string; where?: Condition | undefined };
  do: ProcedureStep[];
}
export interface WhenStep {
  when: Condition;
  do: ProcedureStep[];
}
export interface RepeatStep {
  repeat: { every: number; limit: number; until: Condition; otherwise: string };
  do: ProcedureStep[];
}
export type RequestStep = z.infer<typeof requestStep>;
export type UploadStep = z.infer<typeof uploadStep>;
export type SipStep = z.infer<typeof sipStep>;
export type FetchedStep = z.infer<typeof fetchedStep>;
export type OnvifStep = z.infer<typeof onvifStep>;
export type AskStep = z.infer<typeof askStep>;
export type ProcedureStep =
  | SayStep
  | GetStep
  | RequestStep
  | UploadStep
  | SipStep
  | FetchedStep
  | OnvifStep
  | AskStep
  | SnmpStep
  | WaitStep
  | ForEachStep
  | CheckStep
  | SetStep
  | PickStep
  | WhenStep
  | RepeatStep
  | EachFileStep
  | ReceiveStep;

const whenStep: z.ZodType<WhenStep> = z.lazy(() => closedObject({ when: condition, do: z.array(step) })) as never;
const repeatStep: z.ZodType<RepeatStep> = z.lazy(() =>
  closedObject({
    repeat: closedObject({ every: span, limit: span, until: condition, otherwise: z.enum(causeCodes) }),
    do: z.array(step),
  }),
) as never;

const forEachStep: z.ZodType<ForEachStep> = z.lazy(() =>
  closedObject({ forEach: closedObject({ from: name, as: name, where: condition.optional() }), do: z.array(step) }),
) as never;
const eachFileStep: z.ZodType<EachFileStep> = z.lazy(() => closedObject({ eachFile: z.array(step) })) as never;
const receiveStep: z.ZodType<ReceiveStep> = z.lazy(() =>
  closedObject({ receive: name, limit: span.optional(), do: z.array(step) }),
) as never;

const stepKinds = {
  say: sayStep,
  get: getStep,
  request: requestStep,
  upload: uploadStep,
  sip: sipStep,
  fetched: fetchedStep,
  onvif: onvifStep,
  ask: askStep,
  snmp: snmpStep,
  wait: waitStep,
  forEach: forEachStep,
  check: checkStep,
  set: setStep,
  pick: pickStep,
  when: whenStep,
  repeat: repeatStep,
  eachFile: eachFileStep,
  receive: receiveStep,
};

/** One plain step; which kind it is, its key says. */
const step: z.ZodType<ProcedureStep> = oneOf<ProcedureStep>('step', 'a step is', stepKinds);

const procedure = closedObject({
  do: z.array(step),
  /** What the procedure finds, from its values. */
  gives: z.record(name, template).optional(),
  /** Tables that the procedure finds: every row of `from`, written anew by templates over its columns. */
  yields: z.record(name, closedObject({ from: name, row: z.record(name, template) })).optional(),
});
export type Procedure = z.infer<typeof procedure>;

/** What a procedure is for; the first ones only ask. */
export const procedureNames = [
  'record',
  'children',
  /**
   * What it tells of itself besides, which an upgrade is to leave as it is: where its settings come from, what it would start (`bootList`),
   * its `licences`, and what is grave in its `log`.
   */
  'particulars',
  'neighbours',
  'ready',
  'unsaved',
  'configuration',
  'next-boot',
  'save',
  'transfer',
  'verify-image',
  'activate',
  'reboot',
  'locate',
  /** What a storage holds, and how much is free. */
  'storage',
  /** Brings an image to where it can be taken, ahead of a rollout. */
  'stage',
  'verify-staged',
  'remove-staged',
  /** Takes back that the next reset brings the staged image. */
  'disarm',
  /** Chooses for the next boot the version `${backTo}`, which the device still holds. */
  'fall-back',
  /** Copies what it runs to its other copy, and tells what that holds then. */
  'level',
  /** Keeps what it runs, where it falls back by itself otherwise; may tell whether it is `confirmed`. */
  'confirm-image',
  /** Has others do what the device does for them, for the time of the change; and has it do that again. */
  'set-aside',
  'put-back',
  /** Whether the step `${lostStep}`, in the middle of which Barrow was stopped, has been `done`: yes, or no, or what else. */
  'truth',
  /** Puts the settings `${settings}` in use and keeps them; their lines are rows of `settingsLines`. What it refused is the table `refused`. */
  'restore',
  /** Switches the power of what hangs on its `${outlet}` off, and on again; `${outletNumber}` is the last number in that name. */
  'cut-power',
  'give-power',
  /** Joins `${line}` of a console server, behind which a device is; `${lineNumber}` is the last number in that name. */
  'join-line',
  /** Over its console: logs in as `${consoleUser}` with `${consoleWord}`; gives it its `${address}` again; leaves it as it was found. */
  'enter-console',
  'give-address',
  'leave-console',
  /** The device's own ping of the store. */
  'reach',
] as const;
export type ProcedureName = (typeof procedureNames)[number];

/** What a step of a way is carried out by. */
export const proceduresOf: Readonly<Record<string, readonly ProcedureName[]>> = {
  preflight: ['record'],
  backup: ['configuration'],
  transfer: ['transfer'],
  'verify-image': ['verify-image'],
  activate: ['activate'],
  'confirm-next-boot': ['next-boot'],
  reboot: ['reboot'],
  return: ['record'],
  checks: ['record'],
  settle: ['record'],
  level: ['level'],
  'by-hand': [],
  confirm: ['record', 'confirm-image'],
  'set-aside': ['set-aside'],
  'put-back': ['put-back'],
};

/** One step of a way: its verb with how long it usually takes, and what is otherwise than with this verb elsewhere. */
export const wayStep = z
  .looseObject({
    perMiB: span.optional(),
    /** The device restarts in this step, by itself. */
    restarts: z.boolean().default(false),
    /** What a person is asked to do, in a step by hand. */
    words: z.string().min(1).max(500).optional(),
  })
  .transform(({ perMiB, restarts, words, ...rest }, context): WayStep => {
    const [[step, usual] = [], ...more] = Object.entries(rest);
    const verbs = Object.keys(proceduresOf);
    if (step === undefined || more.length > 0 || !verbs.includes(step)) {
      const named = Object.keys(rest).filter((key) => !verbs.includes(key));
      context.addIssue({
        code: 'custom',
        message: `a step of a way is exactly one of ${verbs.join(', ')}, with how long it usually takes${named.length > 0 ? `; here stands ${named.join(', ')}${meantText(named[0]!, verbs)}` : ''}`,
      });
      return z.NEVER;
    }
    if ((step === 'by-hand') !== (words !== undefined)) {
      context.addIssue({ code: 'custom', message: 'a step by hand says in `words` what a person is to do, and no other step has any' });
      return z.NEVER;
    }
    const read = span.safeParse(usual);
    if (!read.success) {
      context.addIssue({ code: 'custom', path: [step], message: spanWords });
      return z.NEVER;
    }
    return {
      step,
      usualMs: read.data,
      ...(perMiB === undefined ? {} : { perMiBMs: perMiB }),
      ...(words === undefined ? {} : { words }),
      ...(restarts ? { traits: { whenLost: 'ask', down: true, writes: true, stoppable: false } } : {}),
    };
  });

const way = closedObject({
  name: z.string().min(1),
  component: z.enum(components).default('system'),
  /** The versions from which it leads; from every one when absent. */
  from: versionRangeSchema.optional(),
  /** Each is entered as a whole; between two of them the device is let go. `prove` is entered after the soak, where a plan wants that. */
  stretches: z.record(z.string(), z.array(wayStep).min(1)),
  /** From this step on, nothing interrupts. */
  pointOfNoReturn: z.string(),
  /** How it comes back. */
  returns: closedObject({
    /** How long to wait for the device after a restart before it counts as lost. */
    within: span,
  }),
  /** It falls back by itself to what it ran before, so long after its restart, unless it is told to keep what it runs. */
  guard: closedObject({ reverts: span }).optional(),
  /** It takes what it was told to by itself, each day at this time of a time zone: no step restarts it. */
  applies: closedObject({
    at: z
      .string()
      .regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'a time of day is written as 03:30')
      .transform((text) => Number(text.slice(0, 2)) * 60 + Number(text.slice(3))),
    zone: z.string().refine(isZone, 'no time zone; write it as in the time zone database, e.g. Europe/London'),
  }).optional(),
  /** How long after its restart it may still be writing: before that its power is not cut. */
  writeLimit: span.optional(),
  /** What may be tried, in this order, when it fails past the point of no return. */
  recovery: z.array(z.enum(rungMeans)).default([]),
});
export type FamilyWay = z.infer<typeof way>;

const versionScheme = closedObject({
  patterns: z.array(patternText).min(1),
  order: z.array(closedObject({ part: z.string(), absent: z.enum(['first', 'last']).default('first') })).min(1),
  write: z.string().min(1),
});

/** How a file's name, or the title in its header, tells what it is. */
const nameRule = closedObject({
  /** Named groups `model`, `hardwareRevision`, `variant`, `version` and `component` are believed; the rest is fixed here. */
  pattern: patternText,
  models: z.array(z.string().min(1)).min(1).optional(),
  hardwareRevisions: z.array(z.string().min(1)).min(1).optional(),
  variant: z.string().optional(),
  component: z.enum(components).optional(),
});

export const familyShape = closedObject({
  family: z.string().regex(/^[a-z][a-z0-9-]*$/, 'a family is named in small letters, digits and hyphens'),
  title: z.string().min(1),
  maker: z.string().min(1),
  kind: z.enum(kinds),
  models: z
    .array(
      closedObject({
        model: z.string().min(1),
        variant: z.string().default(''),
        revisions: z.array(z.string().min(1)).min(1),
      }),
    )
    .min(1),
  recognise: z
    .array(
      closedObject({
        snmp: closedObject({ objectId: patternText.optional(), description: patternText.optional() }).optional(),
        ssh: closedObject({ identification: patternText.optional() }).optional(),
        http: closedObject({ server: patternText.optional(), realm: patternText.optional(), title: patternText.optional() }).optional(),
        onvif: closedObject({
          manufacturer: patternText.optional(),
          model: patternText.optional(),
          hardware: patternText.optional(),
        }).optional(),
        sip: closedObject({ userAgent: patternText.optional(), server: patternText.optional() }).optional(),
        lldp: closedObject({
          maker: patternText.optional(),
          model: patternText.optional(),
          description: patternText.optional(),
        }).optional(),
      }),
    )
    .default([]),
  /** How a person could find out what the device or its parent does not tell. */
  howToFind: closedObject({ firmware: z.string().min(1).optional() }).default({}),
  versions: versionScheme,
  /** How boot loader versions are read, where they are spelt otherwise. */
  bootLoaderVersions: versionScheme.optional(),
  /** What the files of the family look like; without it none can be taken in. */
  images: closedObject({
    header: z.enum(['simg', 'uboot', 'fit', 'none']),
    names: z.array(nameRule).default([]),
    titles: z.array(nameRule).default([]),
  }).optional(),
  storage: closedObject({
    /** What is said of it in a plan. */
    note: z.string(),
  }).optional(),
  travel: z
    .discriminatedUnion('how', [
      closedObject({ how: z.literal('device-pulls'), protocol: z.enum(['tftp', 'http']) }),
      /** Barrow carries it to the device. */
      closedObject({ how: z.literal('pushed') }),
      /** Through the storage of its parent, on which its procedures are carried out; so many at once go down there. */
      closedObject({
        how: z.literal('through-parent'),
        most: z.number().int().min(1),
        /** How far apart they begin to. */
        apart: span.optional(),
      }),
    ])
    .optional(),
  /** How an image is brought ahead of a rollout to where the device, or its children, can take it. */
  staging: closedObject({
    by: z.enum(['tftp', 'http', 'push']),
    /** Whose images it keeps: its own, or those of what it manages. */
    keeps: z.enum(['own', 'children']).default('own'),
    /** Families of the children whose images it keeps. */
    children: z.array(z.string()).default([]),
    /** A device with a staged image takes it at its next reset, whatever causes that. */
    arms: z.boolean().default(false),
  }).optional(),
  /** How its devices ask the stores. */
  asks: closedObject({
    /** The exact name that they ask for, of {file}, {version}, {model} and {variant}; the name of the file when absent. */
    name: z.string().optional(),
    /** The login that an HTTP store demands of them. */
    login: z.enum(['basic', 'digest']).optional(),
    /** Whether a part of the HTTP address may be long and unguessable. */
    longAddress: z.boolean().default(true),
    /** Files that they ask for by habit, and that need not be there. */
    byHabit: z.array(patternText).default([]),
    /** How they are told where to fetch from, when it is not Barrow that tells them. */
    toldBy: z.enum(['barrow', 'dhcp']).default('barrow'),
  }).prefault({}),
  /** A text that is laid beside the image for the one device, which fetches it by itself, and learns from it what to take. */
  rule: closedObject({
    /** The exact name that it asks for; `{mac}` is its hardware address in twelve small digits. */
    name: z.string().min(1),
    text: template,
  }).optional(),
  /**
   * As what else it may be met: `factory` is how it lets one in after a reset, `loader` where its boot loader takes files, both as
   * its maker writes in its papers. An address that is `told` is asked of whoever looks after the rollout.
   */
  faces: closedObject({
    factory: closedObject({ user: z.string().min(1), password: z.string() }).optional(),
    loader: closedObject({
      address: z.string().refine((text) => text === 'told' || isIP(text) > 0, 'where a boot loader listens is an IP address, or `told`'),
      protocol: z.enum(['tftp', 'http']),
      port: z.number().int().min(1).max(65535).optional(),
    }).optional(),
  }).optional(),
  /** How its devices take images; the first that fits is taken. */
  ways: z.array(way).default([]),
  configuration: closedObject({
    /** Lines that change by themselves, left out when configurations are compared. */
    ignoreLines: z.array(patternText),
    /** Newer versions read settings that older versions saved: after a reset by an image they are restored without a question. */
    readsOlder: z.boolean().default(false),
    /** Patterns whose group `secret` is hidden wherever settings are shown or recorded. */
    secrets: z.array(patternText).default([]),
  }).optional(),
  /** What its saved settings do not hold, and a person would have to bring back by hand. */
  backupLacks: z.array(z.string().min(1).max(60)).max(10).default([]),
  /** Families of devices that it brings to its own version by itself when that changes. */
  takesAlong: z.array(z.string().min(1)).max(20).default([]),
  /** What a restart loses, because it is never written down. */
  restartLoses: z.array(z.string().min(1).max(80)).max(10).default([]),
  /** Whether outlets or PoE ports keep delivering power while the device restarts. */
  keepsPower: z.boolean().default(false),
  shell: closedObject({
    /** Found at the end of the output when the device waits for a command. */
    prompt: patternText,
    paging: closedObject({ when: patternText, answer: z.string() }).optional(),
    /** How more rights are asked for, with the second word of the credential. */
    raise: closedObject({ say: z.string(), asks: patternText, refused: patternText.optional() }).optional(),
    limit: span,
    fails: z.array(failPattern).default([]),
  }).optional(),
  procedures: closedObject(
    Object.fromEntries(procedureNames.map((n) => [n, procedure.optional()])) as Record<ProcedureName, z.ZodOptional<typeof procedure>>,
  ).default({}),
});

/** A family file, checked and read. */
export type Family = z.infer<typeof familyShape>;
export type FamilyWithShell = Family & { shell: NonNullable<Family['shell']> };

/** Whether anything of its devices can be upgraded. */
export const isUpgradable = (family: Family): boolean => family.ways.length > 0;

/** How a family orders and reads the versions of a component. */
export const versionsOf = (family: Family, component: string): Family['versions'] =>
  component === 'boot-loader' && family.bootLoaderVersions ? family.bootLoaderVersions : family.versions;

/**
 * The way by which its devices take an image of a component when they run `from`: the first that fits; null when none does.
 *
 * @throws VersionUnreadable when a way asks for a version and `from` is none of the family
 */
export function wayOf(family: Family, component: string, from: string): (Way & Pick<FamilyWay, 'returns'>) | null {
  const scheme = versionsOf(family, component);
  const found = family.ways.find((w) => w.component === component && (!w.from || inRange(scheme, w.from, from)));
  return found ? readWay(family, found) : null;
}

/** The way of this name, as a plan has chosen it; of a plan that names none, the first of the component. */
export const wayNamed = (family: Family, component: string, name: string): (Way & Pick<FamilyWay, 'returns'>) | null => {
  const found = family.ways.find((w) => w.component === component && (name === '' || w.name === name));
  return found ? readWay(family, found) : null;
};

function readWay(family: Family, found: FamilyWay): Way & Pick<FamilyWay, 'returns'> {
  const { name, component, pointOfNoReturn, returns, recovery, writeLimit, applies } = found;
  const stretches = Object.entries(found.stretches).map(([of, steps]) => ({ name: of, steps }));
  const { travel } = family;
  return {
    name,
    component,
    pointOfNoReturn,
    returns,
    returnsWithinMs: returns.within,
    recovery,
    stretches,
    ...(writeLimit === undefined ? {} : { writeLimitMs: writeLimit }),
    ...(family.faces?.factory ? { resetsLogin: true } : {}),
    ...(applies === undefined ? {} : { applies }),
    ...(travel?.how === 'through-parent'
      ? { throughParent: { most: travel.most, ...(travel.apart === undefined ? {} : { apartMs: travel.apart }) } }
      : {}),
  };
}
/** What handles a device through its parent: the doors of the parent, the procedures of the child. */
export const throughParent = (parent: Family, child: Family): Family => ({
  ...child,
  ...(parent.shell === undefined ? {} : { shell: parent.shell }),
  configuration: child.configuration ?? parent.configuration,
});
export const hasShell = (family: Family): family is FamilyWithShell => family.shell !== undefined;
