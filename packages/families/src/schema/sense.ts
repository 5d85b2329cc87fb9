import { meantName, meantText, pattern } from '@barrow/core';
import type { Condition, Family, Procedure, ProcedureName, ProcedureStep } from './shape.js';
import { comparesBy } from './proof.js';
import { everyStep, type PlacedStep } from './walk.js';

/** What a family file says that cannot be meant, with the place where it says it. */
export interface SenseFault {
  readonly path: readonly PropertyKey[];
  readonly message: string;
}

const ofImages = [
  'imageFile',
  'imageBytes',
  'imageSha256',
  'imageVersion',
  'storeAddress',
  'storePort',
  'storeUrl',
  'storeUser',
  'storePassword',
] as const;
const ofDevice = ['deviceName', 'deviceMac', 'deviceSerial'] as const;
/** The login for a page with a form. */
const ofPages = ['pageUser', 'pageWord'] as const;
const ofFiles = ['fileName', 'fileBytes', 'fileSha256'] as const;
const ofReceiving = ['receiveName', 'storeAddress', 'storePort'] as const;

/** What Barrow gives to each procedure, wherever that is carried out. */
const givenTo: Record<ProcedureName, readonly string[]> = {
  record: [],
  children: [],
  particulars: [],
  neighbours: [],
  unsaved: [],
  configuration: [],
  'next-boot': [],
  save: [],
  ready: ofImages,
  transfer: ofImages,
  'verify-image': ofImages,
  activate: ofImages,
  reboot: ofImages,
  locate: ['seconds'],
  storage: ['imageFile', 'imageBytes'],
  stage: ofImages,
  'verify-staged': ofImages,
  'remove-staged': [...ofImages, 'removeFile'],
  disarm: ['imageVersion'],
  'fall-back': ['backTo'],
  level: ofImages,
  'confirm-image': ofImages,
  'set-aside': [],
  'put-back': [],
  truth: [...ofImages, 'lostStep'],
  restore: ['settings'],
  'cut-power': ['outlet', 'outletNumber'],
  'give-power': ['outlet', 'outletNumber'],
  'join-line': ['line', 'lineNumber'],
  'enter-console': ['consoleUser', 'consoleWord'],
  'give-address': ['address'],
  'leave-console': [],
  reach: ['storeAddress', 'storePort'],
};

/** Each value that Barrow gives, with the procedures that may use it; null: all of them. */
export function givenValues(): ReadonlyMap<string, readonly string[] | null> {
  const values = new Map<string, string[] | null>([...ofDevice, ...ofPages, ...ofFiles].map((one) => [one, null]));
  for (const [name, given] of Object.entries(givenTo)) for (const one of given) values.set(one, [...(values.get(one) ?? []), name]);
  for (const one of ofReceiving) if (!values.has(one)) values.set(one, null);
  return values;
}

const ofRecord = [
  'name',
  'model',
  'hardwareRevision',
  'variant',
  'serial',
  'mac',
  'firmware',
  'bootLoader',
  'bootCount',
  'freeBytes',
  'nextBoot',
  'settings',
];
const ofHeld = ['digest', 'bytes', 'version'];
/** What is read of what each procedure gives; whatever else it gives, nobody reads. */
const readOf: Record<ProcedureName, readonly string[]> = {
  record: ofRecord,
  children: [],
  particulars: ['settingsFrom'],
  neighbours: [],
  unsaved: ['differences'],
  configuration: ['text'],
  'next-boot': ['nextBoot'],
  save: [],
  ready: ['freeBytes'],
  transfer: ['wasThere'],
  'verify-image': ofHeld,
  activate: [],
  reboot: [],
  locate: [],
  storage: ['freeBytes'],
  stage: ['wasThere'],
  'verify-staged': ofHeld,
  'remove-staged': [],
  disarm: [],
  'fall-back': [],
  level: ofHeld,
  'confirm-image': ['confirmed'],
  'set-aside': [],
  'put-back': [],
  truth: ['done', 'words'],
  restore: [],
  'cut-power': [],
  'give-power': [],
  'join-line': [],
  'enter-console': [],
  'give-address': [],
  'leave-console': [],
  reach: ['reached'],
};
/** What a procedure may give; nothing: what it gives is a table, or nobody reads it. */
export const mayGive = (name: ProcedureName): readonly string[] => readOf[name];
const tablesOf: Partial<Record<ProcedureName, readonly string[]>> = {
  record: ['members'],
  children: ['children'],
  particulars: ['bootList', 'licences', 'log'],
  storage: ['files'],
  neighbours: ['outlets'],
  restore: ['refused'],
};
/** Tables that Barrow gives to a procedure, with their columns. */
const tablesTo: Partial<Record<ProcedureName, Readonly<Record<string, readonly string[]>>>> = { restore: { settingsLines: ['line'] } };
/** What has to be given, or the work that follows cannot be done. */
const neededOf: Partial<Record<ProcedureName, readonly string[]>> = {
  configuration: ['text'],
  'next-boot': ['nextBoot'],
  unsaved: ['differences'],
  truth: ['done'],
  reach: ['reached'],
};
const neededOfRecord = ['serial', 'firmware'];

const groupsOf = (source: string): string[] => [...source.matchAll(/\(\?P?<([A-Za-z]\w*)>/g)].map((m) => m[1]!);
/** Whether a pattern fits the empty text, and so every text; one that is no pattern is told by the shape. */
function fitsNothing(source: string): boolean {
  try {
    return pattern(source).matcher('').find();
  } catch {
    return false;
  }
}
const namesIn = (template: string): string[] => [...template.matchAll(/(?<!\$)\$\{([A-Za-z0-9.]+)(?:\|[^}]*)?\}/g)].map((m) => m[1]!);

/** Everything in a family file that its shape allows and that cannot be meant. */
export function faultsOfSense(family: Family): SenseFault[] {
  return [
    ...versionFaults(family),
    ...recogniserFaults(family),
    ...imageFaults(family),
    ...shellFaults(family),
    ...procedureFaults(family),
    ...ruleFaults(family),
  ];
}

function ruleFaults({ rule, travel }: Family): SenseFault[] {
  if (!rule) return [];
  const known = [...ofImages, ...ofDevice];
  const unknown = [...namesIn(rule.text)].filter((one) => !(known as string[]).includes(one));
  return [
    ...unknown.map((one) => ({ path: ['rule', 'text'], message: `nothing gives \${${one}}` })),
    ...(rule.name.replace('{mac}', '').match(/[{}]/) ? [{ path: ['rule', 'name'], message: 'nothing can fill it but {mac}' }] : []),
    ...(travel?.how === 'device-pulls'
      ? []
      : [{ path: ['rule'], message: 'a rule is for devices that fetch by themselves: travel says otherwise' }]),
  ];
}

/** What a family file leaves open, and what follows from it; nothing that has to be mended. */
export function remarksOfSense(family: Family): SenseFault[] {
  const remarks: SenseFault[] = [];
  for (const name of ['verify-image', 'verify-staged'] as const) {
    const procedure = family.procedures[name];
    if (!procedure || procedure.gives?.['digest'] !== undefined || comparesBy(procedure) === 'digest') continue;
    remarks.push({
      path: ['procedures', name],
      message:
        procedure.gives?.['bytes'] !== undefined || comparesBy(procedure) === 'size'
          ? 'it gives no digest, so that only the size is compared: Barrow will say that the device cannot tell a digest'
          : 'it gives neither digest nor bytes, so that nothing is compared: Barrow will say that the device cannot tell what it holds',
    });
  }
  if (family.ways.some((w) => Object.values(w.stretches).some((s) => s.some((one) => one.step === 'activate'))))
    if (!family.procedures['next-boot'] && !family.procedures.truth)
      remarks.push({
        path: ['procedures'],
        message: 'neither next-boot nor truth: when Barrow is stopped in the middle of activate, nobody can tell whether it was done',
      });
  if (family.procedures.record && family.procedures.record.gives?.['bootCount'] === undefined && family.travel)
    remarks.push({
      path: ['procedures', 'record'],
      message: 'it gives no bootCount: a restart is proven by its silence and its running time',
    });
  return [...remarks, ...literalRemarks(family)];
}

/** Of these a word with a version in it says that an image of long ago was meant. */
const namingOne: readonly ProcedureName[] = ['transfer', 'verify-image', 'activate', 'stage', 'verify-staged', 'confirm-image', 'level'];

/** What was recorded with the name of one file would choose that file at every upgrade. */
function literalRemarks(family: Family): SenseFault[] {
  const versions = family.versions.patterns.map((source) => pattern(source));
  const hasVersion = (word: string): boolean =>
    !/^[0-9.:]+$/.test(word) &&
    versions.some((v) => {
      const found = v.matcher(word);
      // One number alone may be anything.
      return found.find() && /\d\D+\d/.test(found.group() ?? '');
    });
  return namingOne.flatMap((name) =>
    [...everyStep(family.procedures[name]?.do ?? [])].flatMap(({ step, path }) => {
      const typed = 'say' in step ? step.say : 'request' in step ? `${step.request} ${step.body ?? ''}` : '';
      const word = typed
        .replace(/\S*\$\{[^}]*\}\S*/g, ' ')
        .split(/[\s"',;=]+/)
        .find(hasVersion);
      if (word === undefined) return [];
      const meant = /\.[A-Za-z]{2,5}$/.test(word) ? '${imageFile}' : '${imageVersion}';
      const message = `"${word}" would be typed as it stands at every upgrade: is ${meant} meant?`;
      return [{ path: ['procedures', name, ...path], message }];
    }),
  );
}

function versionFaults(family: Family): SenseFault[] {
  const faults: SenseFault[] = [];
  for (const key of ['versions', 'bootLoaderVersions'] as const) {
    const scheme = family[key];
    if (!scheme) continue;
    const parts = new Set(scheme.patterns.flatMap(groupsOf));
    const known = [...parts].join(', ') || 'none';
    for (const [index, { part }] of scheme.order.entries())
      if (!parts.has(part))
        faults.push({
          path: [key, 'order', index, 'part'],
          message: `no pattern has the part "${part}", so that versions that differ in it would count as equal; the patterns have ${known}`,
        });
    const written = [...scheme.write.matchAll(/\{(\w+)(?::\d)?\}/g)].map((m) => m[1]!);
    for (const part of written)
      if (!parts.has(part)) faults.push({ path: [key, 'write'], message: `no pattern has the part "${part}"; the patterns have ${known}` });
    const ordered = new Set(scheme.order.map((o) => o.part));
    // Written alike, two versions could not be told apart; a part that may be absent is not always written.
    for (const part of ordered)
      if (parts.has(part) && !written.includes(part))
        faults.push({ path: [key, 'write'], message: `it does not write the part "${part}", by which versions are in order` });
    for (const part of parts)
      if (!ordered.has(part) && !written.includes(part))
        faults.push({ path: [key, 'patterns'], message: `the part "${part}" is read and neither orders versions nor is written` });
  }
  return faults;
}

function recogniserFaults(family: Family): SenseFault[] {
  const faults: SenseFault[] = [];
  for (const [index, rule] of family.recognise.entries()) {
    const probes = Object.entries(rule).filter(([, of]) => of !== undefined) as [string, Record<string, string | undefined>][];
    if (probes.length === 0) faults.push({ path: ['recognise', index], message: 'it says nothing by which a device could be recognised' });
    for (const [probe, of] of probes) {
      const parts = Object.entries(of).filter((p): p is [string, string] => p[1] !== undefined);
      if (parts.length === 0)
        faults.push({ path: ['recognise', index, probe], message: 'it says nothing by which a device could be recognised' });
      for (const [part, source] of parts)
        if (fitsNothing(source))
          faults.push({ path: ['recognise', index, probe, part], message: 'this pattern fits every text, even an empty one' });
    }
  }
  return faults;
}

const nameParts = ['model', 'hardwareRevision', 'variant', 'version', 'component'];

function imageFaults(family: Family): SenseFault[] {
  const faults: SenseFault[] = [];
  for (const kind of ['names', 'titles'] as const)
    for (const [index, rule] of (family.images?.[kind] ?? []).entries()) {
      const path = ['images', kind, index, 'pattern'];
      const groups = groupsOf(rule.pattern);
      if (kind === 'names' && !groups.includes('version'))
        faults.push({ path, message: 'a name pattern needs a group "version", or the file is of no version' });
      for (const group of groups)
        if (!nameParts.includes(group))
          faults.push({ path, message: `nobody reads the group "${group}"; the groups are ${nameParts.join(', ')}` });
    }
  for (const [, part] of (family.asks.name ?? '').matchAll(/\{([^}]*)\}/g))
    if (!['file', 'version', 'model', 'variant'].includes(part!))
      faults.push({ path: ['asks', 'name'], message: `nothing can fill {${part}}; there are {file}, {version}, {model} and {variant}` });
  if (family.travel?.how === 'device-pulls' && family.staging && !family.procedures.stage && family.staging.by !== family.travel.protocol)
    faults.push({
      path: ['staging', 'by'],
      message: `devices of this family travel by ${family.travel.protocol}, and are staged by ${family.staging.by} with the same procedure "transfer"`,
    });
  return faults;
}

function shellFaults(family: Family): SenseFault[] {
  const { shell, configuration } = family;
  const faults: SenseFault[] = [];
  const mustSay = (path: readonly PropertyKey[], source: string | undefined): void => {
    if (source !== undefined && fitsNothing(source)) faults.push({ path, message: 'this pattern fits every answer, even an empty one' });
  };
  mustSay(['shell', 'prompt'], shell?.prompt);
  mustSay(['shell', 'paging', 'when'], shell?.paging?.when);
  mustSay(['shell', 'raise', 'asks'], shell?.raise?.asks);
  mustSay(['shell', 'raise', 'refused'], shell?.raise?.refused);
  shell?.fails.forEach((f, i) => mustSay(['shell', 'fails', i, 'when'], f.when));
  configuration?.ignoreLines.forEach((source, i) => mustSay(['configuration', 'ignoreLines', i], source));
  configuration?.secrets.forEach((source, i) => {
    if (!groupsOf(source).includes('secret'))
      faults.push({ path: ['configuration', 'secrets', i], message: 'it needs a group "secret", which is what is hidden' });
  });
  return faults;
}

function procedureFaults(family: Family): SenseFault[] {
  const faults: SenseFault[] = [];
  for (const [key, procedure] of Object.entries(family.procedures)) {
    if (!procedure) continue;
    const name = key as ProcedureName;
    const at = (path: readonly PropertyKey[], message: string): void => void faults.push({ path: ['procedures', name, ...path], message });
    valueFaults(name, procedure, at);
    const gives = Object.keys(procedure.gives ?? {});
    for (const given of gives)
      if (!readOf[name].includes(given))
        at(
          ['gives', given],
          `nobody reads "${given}" of ${name}${readOf[name].length > 0 ? `; it may give ${readOf[name].join(', ')}${meantText(given, readOf[name])}` : ''}`,
        );
    const needed = name === 'record' && family.travel ? neededOfRecord : (neededOf[name] ?? []);
    for (const one of needed) if (!gives.includes(one)) at([], `it has to give "${one}", without which nothing can be upgraded`);
    const tables = tablesOf[name] ?? [];
    for (const yielded of Object.keys(procedure.yields ?? {}))
      if (!tables.includes(yielded))
        at(
          ['yields', yielded],
          `nobody reads the table "${yielded}" of ${name}${tables.length > 0 ? `; it may yield ${tables.join(', ')}${tables.length > 1 ? meantText(yielded, tables) : ''}` : ''}`,
        );
    const placed = [...everyStep(procedure.do)];
    if (!withPerson.includes(name))
      for (const { step, path } of placed)
        if ('ask' in step)
          at([...path, 'ask'], `${name} is carried out when nobody is there to be asked; in ${withPerson.join(', ')} somebody is`);
    loaderFaults(family, name, placed, at);
    const steps = placed.map((s) => s.step);
    if ((name === 'verify-image' || name === 'verify-staged' || name === 'level') && !steps.some(isQuestion))
      at([], 'it asks nothing, so that nothing would be verified');
    if (
      name === 'reboot' &&
      family.travel?.how !== 'through-parent' &&
      !steps.some((s) => 'say' in s && s.endsSession) &&
      steps.some((s) => 'say' in s)
    )
      at([], 'no step says `endsSession: true`, by which it is seen that the device obeyed');
  }
  const { loader } = family.faces ?? {};
  const meets = Object.values(family.procedures).some((p) => p && [...everyStep(p.do)].some(({ step }) => 'upload' in step && step.as));
  if (loader && !meets) faults.push({ path: ['faces', 'loader'], message: 'nobody meets it so: no upload has `as: loader`' });
  return faults;
}

/** What is carried to a boot loader goes as that takes it, and somebody is there where its address has to be told. */
function loaderFaults(
  { faces }: Family,
  name: ProcedureName,
  steps: readonly PlacedStep[],
  at: (path: readonly PropertyKey[], message: string) => void,
): void {
  for (const { step, path } of steps) {
    if (!('upload' in step) || step.as === undefined) continue;
    const loader = faces?.loader;
    if (!loader) at([...path, 'as'], 'where its boot loader takes files is missing: `faces` names no loader');
    else if (!step.over.startsWith(loader.protocol)) at([...path, 'over'], `its boot loader takes files by ${loader.protocol}`);
    else if (loader.address === 'told' && !withPerson.includes(name))
      at([...path, 'as'], `${name} is carried out when nobody is there to tell the address; in ${withPerson.join(', ')} somebody is`);
  }
}

/** Those that only a rollout carries out, which somebody looks after. */
const withPerson: readonly ProcedureName[] = [
  'transfer',
  'activate',
  'reboot',
  'set-aside',
  'put-back',
  'confirm-image',
  'fall-back',
  'level',
];
const isQuestion = (step: ProcedureStep): boolean =>
  'say' in step || 'sip' in step || 'onvif' in step || 'get' in step || 'request' in step || ('snmp' in step && !('set' in step.snmp));

/** The values that a procedure uses against those that something gives, and its tables against those that are read. */
function valueFaults(name: ProcedureName, procedure: Procedure, at: (path: readonly PropertyKey[], message: string) => void): void {
  const given = new Set<string>([...givenTo[name], ...ofDevice, ...ofPages]);
  const made = new Set<string>();
  /** Columns of each table; null: whatever the answer has. */
  const tables = new Map<string, Set<string> | null>(Object.entries(tablesTo[name] ?? {}).map(([of, columns]) => [of, new Set(columns)]));
  const read = new Set<string>(Object.values(procedure.yields ?? {}).map((y) => y.from));
  for (const table of tablesOf[name] ?? []) read.add(table);
  const picked = new Map<string, string>();
  const steps = [...everyStep(procedure.do)];
  const makes = (one: string, path: readonly PropertyKey[]): void => {
    if (given.has(one) || (ofFiles as readonly string[]).includes(one))
      at(path, `"${one}" is given by Barrow, and no step may say otherwise`);
    made.add(one);
  };
  for (const { step, path } of steps) {
    if ('capture' in step)
      step.capture?.forEach((source, i) => {
        const groups = groupsOf(source);
        if (groups.length === 0) at([...path, 'capture', i], 'it has no named group, so that it catches nothing');
        for (const group of groups) makes(group, [...path, 'capture', i]);
      });
    if ('rows' in step && step.rows) {
      const columns = new Set(groupsOf(step.rows.pattern));
      if (columns.size === 0) at([...path, 'rows', 'pattern'], 'it has no named group, so that its rows are empty');
      tables.set(step.rows.into, new Set([...(tables.get(step.rows.into) ?? []), ...columns]));
    }
    if ('json' in step && step.json) tables.set(step.json.into, null);
    if ('snmp' in step) {
      if ('get' in step.snmp) for (const one of Object.keys(step.snmp.get)) makes(one, [...path, 'snmp', 'get', one]);
      if ('rows' in step.snmp) tables.set(step.snmp.rows.into, new Set(['index', ...Object.keys(step.snmp.rows.columns)]));
    }
    if ('forEach' in step) {
      read.add(step.forEach.from);
      picked.set(step.forEach.as, step.forEach.from);
    }
    if ('fields' in step) for (const one of Object.keys(step.fields ?? {})) makes(one, [...path, 'fields', one]);
    if ('ask' in step) makes(step.ask.as, [...path, 'ask', 'as']);
    if ('keep' in step && step.keep) makes(step.keep, [...path, 'keep']);
    if ('endedBy' in step && step.endedBy) makes(step.endedBy, [...path, 'endedBy']);
    if ('set' in step) for (const one of Object.keys(step.set)) makes(one, [...path, 'set', one]);
    if ('receive' in step) makes(step.receive, [...path, 'receive']);
    if ('pick' in step) {
      read.add(step.pick.from);
      picked.set(step.pick.as, step.pick.from);
    }
  }
  for (const [table, path] of steps.flatMap(({ step, path }): [string, readonly PropertyKey[]][] =>
    'rows' in step && step.rows
      ? [[step.rows.into, [...path, 'rows', 'into']]]
      : 'json' in step && step.json
        ? [[step.json.into, [...path, 'json', 'into']]]
        : 'snmp' in step && 'rows' in step.snmp
          ? [[step.snmp.rows.into, [...path, 'snmp', 'rows', 'into']]]
          : [],
  ))
    if (!read.has(table)) at(path, `nobody reads the rows "${table}"`);

  const known = (one: string, more: Iterable<string>): boolean => {
    if (given.has(one) || made.has(one) || [...more].includes(one)) return true;
    const dot = one.indexOf('.');
    if (dot < 0) return false;
    const from = picked.get(one.slice(0, dot));
    if (from === undefined || !tables.has(from)) return false;
    const columns = tables.get(from)!;
    return columns === null || columns.has(one.slice(dot + 1));
  };
  const use = (template: string, path: readonly PropertyKey[], more: Iterable<string> = []): void => {
    for (const one of namesIn(template)) {
      if (known(one, more)) continue;
      const meant = meantName(one, [...given, ...made, ...more]);
      at(path, `nothing gives \${${one}}${meant === null ? '' : `; is \${${meant}} meant?`}`);
    }
  };
  const useCondition = (c: Condition, path: readonly PropertyKey[], more: Iterable<string>): void => {
    if ('any' in c) return c.any.forEach((one, i) => useCondition(one, [...path, 'any', i], more));
    if ('all' in c) return c.all.forEach((one, i) => useCondition(one, [...path, 'all', i], more));
    if ('not' in c) return useCondition(c.not, [...path, 'not'], more);
    for (const key of ['value', 'is', 'isNot', 'atLeast'] as const) if (c[key] !== undefined) use(c[key], [...path, key], more);
    if (c.is === undefined && c.isNot === undefined && c.atLeast === undefined && c.matches === undefined)
      at(path, 'it compares with nothing, so that it always holds');
  };
  const hasUpload = steps.some(({ step }) => 'upload' in step);
  for (const { step, path } of steps) {
    const inFile = hasUpload || path.includes('eachFile') ? ofFiles : [];
    const receiving = steps.some((s) => 'receive' in s.step && path.length > s.path.length && s.path.every((p, i) => path[i] === p));
    const more = [...inFile, ...(receiving ? ofReceiving : [])];
    if ('say' in step) use(step.say, [...path, 'say'], more);
    if ('get' in step) use(step.get, [...path, 'get'], more);
    if ('request' in step) {
      use(step.request, [...path, 'request'], more);
      if (step.body !== undefined) use(step.body, [...path, 'body'], more);
    }
    if ('snmp' in step) {
      const { snmp } = step;
      if ('get' in snmp) for (const [one, text] of Object.entries(snmp.get)) use(text, [...path, 'snmp', 'get', one], more);
      if ('rows' in snmp)
        for (const [one, text] of Object.entries(snmp.rows.columns)) use(text, [...path, 'snmp', 'rows', 'columns', one], more);
      if ('set' in snmp)
        snmp.set.forEach((one, i) => {
          use(one.oid, [...path, 'snmp', 'set', i, 'oid'], more);
          use(one.value, [...path, 'snmp', 'set', i, 'value'], more);
        });
      if (step.refused !== undefined && !('set' in snmp)) at([...path, 'refused'], 'only what is set can be refused');
    }
    if (('sip' in step || 'onvif' in step) && step.body !== undefined) use(step.body, [...path, 'body'], more);
    if ('onvif' in step && step.path !== undefined) use(step.path, [...path, 'path'], more);
    if ('upload' in step) use(step.upload, [...path, 'upload'], more);
    if ('check' in step) {
      useCondition(step.check, [...path, 'check'], more);
      use(step.detail, [...path, 'detail'], more);
    }
    if ('set' in step) for (const [one, text] of Object.entries(step.set)) use(text, [...path, 'set', one], more);
    if ('when' in step) useCondition(step.when, [...path, 'when'], more);
    if ('repeat' in step) useCondition(step.repeat.until, [...path, 'repeat', 'until'], more);
    const chosen = 'pick' in step ? (['pick', step.pick] as const) : 'forEach' in step ? (['forEach', step.forEach] as const) : null;
    if (chosen) {
      const [key, { from, where }] = chosen;
      const columns = tables.get(from);
      if (!tables.has(from)) at([...path, key, 'from'], `no step reads rows into "${from}"`);
      // A JSON answer has whatever columns it has.
      else if (columns !== null && where) useCondition(where, [...path, key, 'where'], [...more, ...columns!]);
    }
  }
  const after = hasUpload ? ofFiles : [];
  for (const [one, text] of Object.entries(procedure.gives ?? {})) use(text, ['gives', one], after);
  for (const [table, { from, row }] of Object.entries(procedure.yields ?? {})) {
    const columns = tables.get(from);
    if (!tables.has(from)) at(['yields', table, 'from'], `no step reads rows into "${from}"`);
    else if (columns !== null)
      for (const [column, text] of Object.entries(row)) use(text, ['yields', table, 'row', column], [...after, ...columns!]);
  }
}
