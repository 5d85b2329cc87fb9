import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { kinds } from '@barrow/core';
import {
  comparesBy,
  compiledFamily,
  FamilyFileError,
  isUpgradable,
  loadFamilies,
  parseFamily,
  whatWorks,
  recognise,
  remarksOfSense,
  shippedFamilies,
  type Condition,
  type ProcedureStep,
} from '@barrow/families';

const file = join(shippedFamilies, 'tarnbrook-access.yaml');
const text = readFileSync(file, 'utf8');
const lineOf = (needle: string) => text.slice(0, text.indexOf(needle)).split('\n').length;

function faults(changed: string) {
  try {
    parseFamily(changed, 'f.yaml');
  } catch (error) {
    if (error instanceof FamilyFileError) return error.faults;
    throw error;
  }
  return [];
}

describe('a family file', () => {
  it('that ships is taken as it was read when Barrow was built, and read anew when a letter of it was changed', () => {
    for (const name of readdirSync(shippedFamilies)) {
      const shipped = readFileSync(join(shippedFamilies, name), 'utf8');
      expect(compiledFamily(shipped), name).toEqual(parseFamily(shipped, name));
      expect(compiledFamily(`${shipped} `)).toBeUndefined();
    }
  });

  it('that ships is without fault', () => {
    const families = [...loadFamilies().values()];
    expect(families.filter(isUpgradable).map((f) => f.family)).toEqual([
      'fennwave-ap',
      'fennwave-controller',
      'owlpane-camera',
      'stavewell-strip',
      'tarnbrook-access',
      'tarnbrook-core',
      'tollard-desk',
      'wendlock-branch',
    ]);
    expect(new Set(families.map((f) => f.kind)).size).toBe(kinds.length - 1);
  });

  it.each([
    [
      'an unknown cause',
      "{ when: '^no: busy ', cause: device-busy }",
      "{ when: '^no: busy ', cause: busybody }",
      /it is one of unreachable, .* and \d+ more, not "busybody"/,
    ],
    ['a pattern that runs in more than linear time', "objectId: '^1", "objectId: '(?=x)^1", /RE2 syntax/],
    ['a span without a unit', 'preflight: 12 s', 'preflight: 12', /a span of time is a number and ms/],
    [
      'a key that nobody knows',
      'staging: { by: tftp }',
      'staging: { by: tftp }\nwarrantyUntil: 2030',
      /^"warrantyUntil" is not known here: what is known is family, /,
    ],
    ['a step of no kind', '      - say: tell unit\n', '      - shout: tell unit\n', /a step is exactly one of/],
    [
      'a condition of no kind',
      "check: { value: '${work}', is: idle }",
      'check: { either: [] }',
      /a condition has exactly one of value, any, all, not/,
    ],
    ['a condition of nothing', "check: { value: '${work}', is: idle }", 'check: { any: [] }', /^it has no entry$/],
    [
      'an object identifier of words',
      '      - say: tell unit\n',
      '      - snmp: { get: { work: ifOperStatus.1 } }\n',
      /numbers with points/,
    ],
    [
      'SNMP that asks two things',
      '      - say: tell unit\n',
      '      - snmp: { get: { a: 1.3.6 }, set: [] }\n',
      /exactly one of get, rows, set/,
    ],
    ['a kind of no kind', 'kind: switch', 'kind: toaster', /it is one of switch, router, /],
  ])('with %s is refused at its line', (_, before, after, message) => {
    const found = faults(text.replace(before, () => after));
    expect(found.length).toBeGreaterThan(0);
    expect(found[0]!.message).toMatch(message);
    const expected = after.includes('\nwarranty') ? lineOf(before) + 1 : lineOf(before);
    expect(Math.abs(found[0]!.line - expected), `line ${found[0]!.line}, expected about ${expected}`).toBeLessThanOrEqual(1);
  });

  it('with several unknown keys names each at its own line', () => {
    const found = faults(text.replace('\nshell:\n', '\nwarranty: 5 years\ncolour: grey\nshell:\n')).filter((x) =>
      x.message.includes('not known'),
    );
    expect(found.map((x) => x.message.split(' ')[0])).toEqual(['"warranty"', '"colour"']);
    expect(found[1]!.line).toBe(found[0]!.line + 1);
  });

  it('that is no YAML is refused at its line', () => {
    expect(faults('family: x\n  title: [')[0]).toMatchObject({ file: 'f.yaml', line: expect.any(Number) as number });
  });

  it('without a procedure is refused', () => {
    expect(faults(text.replace('  verify-image:\n', '  verify-imago:\n')).map((f) => f.message)).toContain(
      'the procedure verify-image is missing, without which there is no verify-image',
    );
  });
});

describe('what a family file says and cannot mean', () => {
  const cases: [string, string, string, RegExp][] = [
    [
      'an order by a part that no pattern has',
      '    - { part: fix }\n  write',
      '    - { part: patch }\n  write',
      /no pattern has the part "patch".*major, minor, fix/,
    ],
    [
      'a written part that no pattern has',
      "write: '{major}.{minor}.{fix}'",
      "write: '{major}.{minor}.{patch}'",
      /no pattern has the part "patch"/,
    ],
    ['a part that decides nothing', "(?: build \\d+)?'", "(?: build (?P<build>\\d+))?'", /"build" is read and neither orders/],
    [
      'a value in a condition within conditions that nothing gives',
      "check: { value: '${work}', is: idle }",
      "check: { not: { any: [{ value: '${work}', is: idle }, { value: '${wrok}', is: idle }] } }",
      /nothing gives \$\{wrok\}; is \$\{work\} meant/,
    ],
    [
      'a condition within conditions that compares with nothing',
      "check: { value: '${work}', is: idle }",
      "check: { all: [{ value: '${work}' }] }",
      /compares with nothing/,
    ],
    [
      'a row of rows that nobody read',
      "      - pick: { from: slots, where: { value: '${use}', is: spare }, as: spare, otherwise: unexpected-answer }\n      - say: test slot",
      '      - forEach: { from: slits, as: spare }\n        do: []\n      - say: test slot',
      /no step reads rows into "slits"/,
    ],
    [
      'a column that the rows of SNMP do not have',
      "      - say: test slot ${spare.slot}\n        limit: 2 min\n        capture: ['^sound",
      "      - snmp: { rows: { into: bays, columns: { state: 1.3.6.1 } } }\n      - forEach: { from: bays, as: bay }\n        do: [{ say: 'look ${bay.stat}' }]\n      - say: test slot ${spare.slot}\n        limit: 2 min\n        capture: ['^sound",
      /nothing gives \$\{bay\.stat\}/,
    ],
    [
      'a refusal of what is only read',
      "      - say: tell unit\n        capture:\n          - '^slot room",
      "      - snmp: { get: { seen: 1.3.6.1 } }\n        refused: no-space\n      - say: tell unit\n        capture:\n          - '^slot room",
      /only what is set can be refused/,
    ],
    ['a value that nothing gives', "serial: '${serial}'", "serial: '${serail}'", /nothing gives \$\{serail\}; is \$\{serial\} meant\?/],
    [
      'a column that the rows do not have',
      "nextBoot: '${boots.version}'",
      "nextBoot: '${boots.fersion}'",
      /nothing gives \$\{boots\.fersion\}/,
    ],
    [
      'rows from nowhere',
      "- pick: { from: slots, where: { value: '${next}', is: next }, as: boots",
      "- pick: { from: bays, where: { value: '${next}', is: next }, as: boots",
      /no step reads rows into "bays"/,
    ],
    [
      'what nobody reads of a record',
      "bootCount: '${boots}'",
      "restarts: '${boots}'",
      /nobody reads "restarts" of record; it may give .*bootCount/,
    ],
    ['a record without a version', "      firmware: '${firmware}'\n", '', /it has to give "firmware"/],
    ['a name pattern without a version', "'^tb24-(?P<version>[0-9.]+)\\.simg$'", "'^tb24-[0-9.]+\\.simg$'", /needs a group "version"/],
    ['a recogniser of nothing', "      identification: '^SSH-2\\.0-Tarnbrook_1$'", '      {}', /by which a device could be recognised/],
    ['a recogniser of everything', "description: '^Tarnbrook '", "description: '.*'", /fits every text/],
    ['a prompt that fits everything', "prompt: '(?:^|\\n)[A-Za-z0-9-]+ :: $'", "prompt: '.*'", /fits every answer/],
    ['a secret that is not named', "'^watchword (?P<secret>.+)$'", "'^watchword (.+)$'", /needs a group "secret"/],
    [
      'another way of staging than of travelling',
      'staging: { by: tftp }',
      'staging: { by: http }',
      /travel by tftp, and are staged by http/,
    ],
    [
      'a step that says otherwise what Barrow gives',
      "- set: { there: 'no' }",
      "- set: { there: 'no', imageFile: other }",
      /"imageFile" is given by Barrow/,
    ],
    [
      'a capture of nothing',
      "capture: ['^done: (?P<done>slot \\d)$']",
      "capture: ['^done: slot \\d$', '^done: (?P<done>slot \\d)$']",
      /catches nothing/,
    ],
    ['a restart that nobody would see', '        endsSession: true\n', '', /endsSession/],
    [
      'a name that nothing can fill',
      'staging: { by: tftp }',
      "staging: { by: tftp }\nasks: { name: '{serial}.bin' }",
      /nothing can fill \{serial\}/,
    ],
    ['a step of a way that nobody knows', '{ preflight: 12 s }', '{ fly: 12 s }', /exactly one of preflight.*; here stands fly/],
    ['two steps of a way in one', '{ preflight: 12 s }', '{ preflight: 12 s, backup: 2 s }', /exactly one of/],
    ['a way that verifies nothing', ', { checks: 15 s }', '', /checks is missing, without which nothing is verified/],
    ['a way that looks at nothing before', '{ preflight: 12 s }, ', '', /preflight is missing, without which nobody looks/],
    [
      'a way that looks too late',
      '[{ preflight: 12 s }, { backup: 8 s }]',
      '[{ backup: 8 s }, { preflight: 12 s }]',
      /does not begin with preflight/,
    ],
    ['a step that stands twice', '{ reboot: 2 s }', '{ reboot: 2 s }, { backup: 2 s }', /backup stands in it twice/],
    ['a point of no return that is no step', 'pointOfNoReturn: activate', 'pointOfNoReturn: upload', /has no step upload/],
    [
      'a second way of the same component',
      'ways:\n',
      'ways:\n  - { name: x, stretches: { a: [{ preflight: 1 s }, { checks: 1 s }] }, pointOfNoReturn: checks, returns: { within: 1 s } }\n',
      /never taken/,
    ],
    ['ways without a way for the image', 'travel: { how: device-pulls, protocol: tftp }', '', /travel is missing/],
    [
      'a way back that nothing carries out',
      '\n  fall-back:\n',
      '\n  fall-forth:\n',
      /fall-back is missing, without which it cannot go back/,
    ],
    ['a rung that stands twice', 'recovery: [wait, console', 'recovery: [wait, wait', /wait stands in it twice/],
    [
      'settings that are put back on another version',
      'other-slot, restore,',
      'restore, other-slot,',
      /it comes after other-slot or earlier-image/,
    ],
    [
      'power that is cut of who is handled through another',
      'travel: { how: device-pulls, protocol: tftp }',
      'travel: { how: through-parent, most: 2 }',
      /of who may still answer the power is not cut/,
    ],
    [
      'a console after its power',
      '[wait, console, power-cycle',
      '[wait, power-cycle, console',
      /whoever can still be spoken to keeps its power/,
    ],
    [
      'a console that nobody leaves',
      '\n  leave-console:\n',
      '\n  leaves-console:\n',
      /leave-console is missing, without which nobody can give it/,
    ],
    ['settings that nobody puts back', '\n  restore:\n', '\n  restores:\n', /restore is missing, without which its settings/],
    [
      'a face that nobody needs',
      'recovery: [wait, console, power-cycle, other-slot, restore, earlier-image]',
      'recovery: [wait, power-cycle]',
      /nobody logs in so/,
    ],
    [
      'outlets that stay on, and a power cut',
      '\nshell:\n',
      '\nkeepsPower: true\nshell:\n',
      /a power-cycle takes the power of its outlets as well/,
    ],
    ['power that is cut of who may still be writing', '    writeLimit: 5 min\n', '', /`writeLimit` is missing, which says how long/],
    [
      'a limit that nobody reads',
      'recovery: [wait, console, power-cycle',
      'recovery: [wait, console',
      /nobody reads it: `recovery` does not name power-cycle/,
    ],
    [
      'power that is cut and never given',
      '  give-power:\n',
      '  put-back:\n',
      /give-power is missing: what is switched off is switched on again/,
    ],
    [
      'an outlet of which nobody tells',
      '1.6.1.${outletNumber}',
      '1.6.1.${outletNo}',
      /nothing gives \$\{outletNo\}; is \$\{outlet\} meant/,
    ],
    ['a rung that nobody knows', 'recovery: [wait', 'recovery: [pray', /.+/],
    [
      'a change after the soak',
      '{ settle: 15 s }, { level',
      '{ settle: 15 s }, { backup: 1 s }, { level',
      /backup would change what was verified/,
    ],
    [
      'a proof that does not look first',
      'prove: [{ settle: 15 s }, { level: 70 s }]',
      'prove: [{ level: 70 s }]',
      /does not begin with settle/,
    ],
    [
      'a proof that is not last',
      '      prepare: [{ preflight',
      '      prove: [{ settle: 1 s }]\n      prepare: [{ preflight',
      /and so last|duplicated|unique/i,
    ],
    ['a proof before the soak', '{ checks: 15 s }]', '{ settle: 1 s }, { checks: 15 s }]', /settle comes after the soak/],
    [
      'a rule with a value that nothing gives',
      'storage:\n',
      "rule: { name: '{mac}.r', text: 'run ${imageVersoin}' }\nstorage:\n",
      /nothing gives \$\{imageVersoin\}/,
    ],
    [
      'a rule under a name that nothing can fill',
      'storage:\n',
      "rule: { name: '{serial}.r', text: x }\nstorage:\n",
      /nothing can fill it but \{mac\}/,
    ],
    [
      'a rule for who fetches nothing',
      'travel: { how: device-pulls, protocol: tftp }',
      'travel: { how: pushed }\nrule: { name: r, text: x }',
      /a rule is for devices that fetch/,
    ],
    [
      'a message with a value that nothing gives',
      '      - say: tell settings unkept\n        keep: differences',
      "      - sip: MESSAGE\n        body: 'look at ${stroeAddress}'\n        capture: ['(?P<differences>x)']",
      /nothing gives \$\{stroeAddress\}/,
    ],
    ['a comparison with nothing', "check: { value: '${work}', is: idle }", "check: { value: '${work}' }", /compares with nothing/],
  ];
  it.each(cases)('%s is refused at its line', (_, before, after, message) => {
    expect(text).toContain(before);
    const found = faults(text.replace(before, () => after)).filter((f) => message.test(f.message));
    expect(found.length, JSON.stringify(faults(text.replace(before, () => after)))).toBeGreaterThan(0);
    expect(found[0]!.line).toBeGreaterThan(1);
  });

  const verify = text.slice(text.indexOf('  verify-image:\n'), text.indexOf('  activate:\n'));
  it('a verification that asks nothing is none', () => {
    expect(faults(text.replace(verify, '  verify-image: { do: [] }\n\n')).map((f) => f.message)).toContain(
      'it asks nothing, so that nothing would be verified',
    );
  });
  it('a device that tells no digest is allowed, and remarked upon', () => {
    const asked = (gives: string): string =>
      text.replace(
        verify,
        () => `  verify-image:\n    do:\n      - say: tell slots\n        capture: ['^room (?P<room>\\d+)$']\n${gives}\n`,
      );
    const remarks = (changed: string): string[] => remarksOfSense(parseFamily(changed, 'f.yaml')).map((r) => r.message);
    expect(remarks(text)).toEqual([]);
    expect(remarks(asked(''))).toEqual([expect.stringMatching(/cannot tell what it holds/)]);
    expect(remarks(asked("    gives: { bytes: '${room}' }"))).toEqual([expect.stringMatching(/only the size is compared/)]);
  });
  it('a comparison inside of a condition proves nothing', () => {
    const family = loadFamilies().get('tarnbrook-core')!;
    expect(comparesBy(family.procedures['verify-staged']!)).toBe('digest');
    const [each] = family.procedures['verify-staged']!.do as [{ eachFile: ProcedureStep[] }];
    expect(comparesBy({ do: [{ when: { value: 'a', is: 'b' }, do: [each as ProcedureStep] }] })).toBe('nothing');
    const sizes = each.eachFile.filter((s) => !JSON.stringify(s).includes('Sha256'));
    expect(comparesBy({ do: [{ eachFile: sizes }] })).toBe('size');
    const same = { value: '${sum}', is: '${imageSha256}' };
    const checked = (check: Condition) => comparesBy({ do: [{ check, cause: 'image-damaged', detail: '' }] });
    expect(checked({ all: [{ value: 'a', is: 'b' }, same] })).toBe('digest');
    // What holds by something else too, or when it is otherwise, compares nothing.
    for (const check of [{ any: [same] }, { not: same }, { all: [{ not: same }] }]) expect(checked(check)).toBe('nothing');
  });
});

describe('recognising', () => {
  const families = [...loadFamilies().values()];
  it('takes the rule that says most, and tells its evidence', () => {
    const found = recognise(families, {
      snmp: { objectId: '1.3.6.1.4.1.32473.10.1.24', description: 'Tarnbrook TB-2424 switch, firmware 4.2.1' },
    });
    expect(found?.family.family).toBe('tarnbrook-access');
    expect(found?.evidence).toMatch(/^SNMP object ID matches .* and SNMP description matches /);
  });
  it('takes none when one of its conditions is not met', () => {
    expect(recognise(families, { snmp: { objectId: '1.3.6.1.4.1.32473.10.1.24', description: null } })).toBeNull();
    expect(recognise(families, { snmp: { objectId: null, description: null } })).toBeNull();
    expect(recognise(families, {})).toBeNull();
  });
  it('names the others that fit too, with their evidence', () => {
    const rule = (family: string, rules: unknown): (typeof families)[number] => ({ ...families[0]!, family, recognise: rules }) as never;
    const narrow = rule('narrow', [{ ssh: { identification: '^SSH-2\\.0-Board_2$' }, http: { server: '^board' } }]);
    const wide = rule('wide', [{ http: { server: '^board' } }]);
    const found = recognise([wide, narrow], {
      ssh: { identification: 'SSH-2.0-Board_2' },
      http: { server: 'board/2', realm: null, title: null },
    });
    expect(found).toMatchObject({
      family: { family: 'narrow' },
      evidence:
        'SSH identification matches ^SSH-2\\.0-Board_2$ and HTTP Server header matches ^board; wide fits too, and says less: HTTP Server header matches ^board',
    });
    expect(recognise([wide], { http: { server: 'board/2', realm: null, title: null } })!.evidence).toBe(
      'HTTP Server header matches ^board',
    );
  });

  it('catches what a rule names: model and firmware of a SIP phone', () => {
    const found = recognise(families, { sip: { userAgent: 'Tollard D40/2.8.1 (hw B)', server: null } });
    expect(found?.family.family).toBe('tollard-desk');
    expect(found?.caught).toEqual({ model: 'D40', firmware: '2.8.1', hardwareRevision: 'B' });
  });
});

describe('what a family file makes possible', () => {
  const worksOf = (name: string): string => whatWorks(loadFamilies().get(name)!).join('\n');
  it('is said of each way, and of what is missing and why', () => {
    expect(worksOf('tarnbrook-core')).toContain(
      'A boot loader is upgraded: a boot loader into its bay, then a restart (preflight, backup, transfer',
    );
    expect(worksOf('tarnbrook-access')).not.toMatch(/cannot|not saved|Nothing/);
    expect(worksOf('fennwave-ap')).toContain('Its settings are not saved: there is no procedure `configuration`.');
    expect(worksOf('fennwave-ap')).toContain('all of it through its parent');
    expect(worksOf('fennwave-controller')).toContain('Images of fennwave-ap are put ahead there.');
    expect(worksOf('tollard-base')).toContain('Nothing of it is upgraded: it has no `ways`.');
    expect(worksOf('tollard-handset')).toContain('only its parent can tell of it');
  });
});
