import { describe, expect, it } from 'vitest';
import {
  captureOf,
  concealed,
  draftFamily,
  knownBy,
  parseFamily,
  promptOf,
  readConversation,
  refusalOf,
  remarksOfSense,
  requestIn,
  schemeOf,
  secretsIn,
  tryProcedure,
  withProcedure,
  writeConversation,
  type DraftOf,
} from '@barrow/families';

describe('how versions read, from examples', () => {
  it.each([
    [['4.2.1', '4.10.0'], '(?P<major>\\d+)\\.(?P<minor>\\d+)\\.(?P<fix>\\d+)', '{major}.{minor}.{fix}'],
    [['R6.11', 'R7.02'], 'R(?P<major>\\d+)\\.(?P<minor>\\d+)', 'R{major}.{minor}'],
    [['1.9a', '1.9b', '2.0a'], '(?P<major>\\d+)\\.(?P<minor>\\d+)(?P<letter>[A-Za-z]+)', '{major}.{minor}{letter}'],
    [['5.1', '5.1.2'], '(?P<major>\\d+)\\.(?P<minor>\\d+)(?:\\.(?:(?P<fix>\\d+))?)?', '{major}.{minor}.{fix}'],
    [['2025-06', '2026-01'], '(?P<major>\\d+)-(?P<minor>\\d+)', '{major}-{minor}'],
  ])('%j', (examples, source, write) => {
    expect(schemeOf(examples)).toMatchObject({ patterns: [source], write });
  });
  it.each([
    [[], 'there is no example'],
    [['1.2', 'newest'], '"newest" has no number'],
    [['1.2', '1-3'], 'differ in more than numbers'],
    [['1.10', '1.9'], '1.9 would not be newer than 1.10'],
  ])('is refused for %j', (examples, why) => {
    expect(() => schemeOf(examples)).toThrow(why);
  });
});

describe('by what an answer is known again', () => {
  it.each([
    ['tideboard', '^tideboard$'],
    ['SSH-2.0-Wendlock_1', '^SSH-2\\.0-Wendlock_1$'],
    ['Board router running 4.2.1, built today', '^Board router running (?P<firmware>[^\\s,;()]+)'],
    ['board/7.0 (plain)', '^board'],
    ['SSH-2.0-Board_7.0', '^SSH-2\\.0-Board'],
    ['7.0', '^7\\.0$'],
  ])('%s: %s', (value, source) => {
    expect(knownBy(value, ['4.2.0', '4.2.1'])).toBe(source);
  });
  it('is not known by the name of this one device, but by what tells its kind apart', () => {
    expect(knownBy('Linux orrery-1 5.10.0-25-amd64 #1 SMP', ['5.10.0'], 'orrery-1')).toBe('^Linux \\S+');
    expect(knownBy('orrery-1', ['1.0'], 'orrery-1')).toBe('^orrery-1$');
    expect(knownBy('Board orrery-10', ['1.0'], 'orrery-1')).toBe('^Board orrery-10$');
    expect(knownBy('SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3', ['1.0'], 'orrery-1')).toBe('^SSH-2\\.0-OpenSSH\\S* Debian');
    expect('SSH-2.0-OpenSSH_8.4p1 Debian-5').toMatch(new RegExp(knownBy('SSH-2.0-OpenSSH_9.2p1 Debian-2', ['1.0'])));
    expect('SSH-2.0-OpenSSH_9.2p1 Other-2').not.toMatch(new RegExp(knownBy('SSH-2.0-OpenSSH_9.2p1 Debian-2', ['1.0'])));
  });
});

describe('what finds a value again', () => {
  it.each([
    ['model  TB-24\r\nfirmware   4.2.1\r\n', '4.2.1', '^firmware[ \\t]+(?P<x>\\S+)'],
    ['runs=R7.02\n', 'R7.02', '^runs=(?P<x>\\S+)'],
    ['next is sk12-2.4.0.img, 2.4.0\n', '2.4.0', '^next[ \\t]+is[ \\t]+\\S+[ \\t]+(?P<x>\\S+)'],
    ['held 2.4.0.img\nruns v2.4.0-a\nnow 2.4.0\n', '2.4.0', '^now[ \\t]+(?P<x>\\S+)'],
    ['<title>Tide board</title>', 'Tide board', '^<title>(?P<x>[^<]+)'],
    ['"fw":"1.2","n":3', '1.2', '^"fw":"(?P<x>[^\\s"]+)'],
    ['name  first floor  \n', 'first floor', '^name[ \\t]+(?P<x>.*\\S)[ \\t]*$'],
    ['weighs 65745 mark 06feb34642d28d7d\n', '06feb34642d28d7d', '^weighs[ \\t]+\\S+[ \\t]+mark[ \\t]+(?P<x>\\S+)'],
    [
      'slot 2 held gate-1.0.img since 12:04:33 as S77\n',
      'S77',
      '^slot[ \\t]+2[ \\t]+held[ \\t]+\\S+[ \\t]+since[ \\t]+\\S+[ \\t]+as[ \\t]+(?P<x>\\S+)',
    ],
    ['built 4.2.10\nruns 4.2.1\n', '4.2.1', '^runs[ \\t]+(?P<x>\\S+)'],
  ])('in %j', (answer, value, source) => {
    const found = captureOf(answer, 'x', value);
    expect(found).toBe(source);
    expect(new RegExp(found!.replace('(?P<', '(?<'), 'm').exec(answer.replace(/\r/g, ''))?.groups?.['x']).toBe(value);
  });
  it('is nothing where it does not stand', () => {
    expect(captureOf('runs 4.2.11', 'x', '4.2.1')).toBeNull();
  });
});

describe('two values that read alike', () => {
  const file =
    "family: gates\ntitle: Gates\nmaker: own\nkind: other\nmodels: [{ model: G, revisions: ['1'] }]\nversions: { patterns: ['(?P<n>\\d+\\.\\d+)'], order: [{ part: n }], write: '{n}' }\nshell: { prompt: '> $', limit: 9 s }\n";
  const said = (talk: [string, string][], finds: Record<string, string>) =>
    withProcedure(file, {
      ...{ procedure: 'record', device: 'g', recorded: 'x', greeting: '> ', given: {}, refusals: [], finds },
      talk: talk.map(([say, answer]) => ({ say, answer })),
    });
  it('are taken from two places, in the order in which they were said', () => {
    const talk: [string, string][] = [
      ['who', 'runs 2.4\n> '],
      ['next', 'next is 2.4\n> '],
    ];
    const { text, places } = said(talk, { firmware: '2.4', nextBoot: '2.4' });
    expect(places).toEqual({ firmware: 'runs 2.4', nextBoot: 'next is 2.4' });
    expect(text).toMatch(/say: who\s+capture:\s+- .*firmware.*\s+- say: next\s+capture:\s+- .*nextBoot/);
    expect(said(talk, { nextBoot: '2.4', firmware: '2.4' }).places).toEqual({ nextBoot: 'runs 2.4', firmware: 'next is 2.4' });
  });
  it('are taken from one, where there is no other; in one answer they stand in two of its lines', () => {
    expect(said([['who', 'runs 2.4\n> ']], { firmware: '2.4', nextBoot: '2.4' }).places).toEqual({
      firmware: 'runs 2.4',
      nextBoot: 'runs 2.4',
    });
    const { places, unfound } = said([['who', 'runs 2.4\nkeeps 2.4\n> ']], { firmware: '2.4', nextBoot: '2.4', serial: 'S1' });
    expect(places).toEqual({ firmware: 'runs 2.4', nextBoot: 'keeps 2.4' });
    expect(unfound).toEqual(['serial']);
  });
});

describe('settings', () => {
  const file = `configuration: { ignoreLines: [], secrets: ['^hush (?P<secret>.+)$', '((', 7] }\n`;
  const talk = [{ say: 'lines', answer: 'lines\r\nname g\r\nhush low-tide\r\n> ' }];
  const said = {
    procedure: 'configuration',
    device: 'g',
    recorded: 'x',
    greeting: '> ',
    given: {},
    refusals: [],
    finds: {},
    talk,
  } as const;
  it('are told whole, as they came last', () => {
    expect(withProcedure(file, { ...said, talk: [...talk], refusals: [] }).text.replace(/\s+/g, ' ')).toContain(
      'configuration: do: - say: lines keep: text gives: text: ${text}',
    );
  });
  it('are kept without what the file says is secret in them, as far as it can be read', () => {
    expect(secretsIn(file)).toEqual(['^hush (?P<secret>.+)$']);
    for (const none of ['', 'configuration: 5', 'configuration: { secrets: 7 }']) expect(secretsIn(none)).toEqual([]);
    const clean = concealed(
      { ...said, talk: [...talk], refusals: [{ after: 'x', answer: 'hush ebb', cause: 'no-space' }] },
      secretsIn(file),
    );
    expect(JSON.stringify(clean)).not.toMatch(/low-tide|ebb/);
    expect(clean.talk[0]!.answer).toContain('hush ‹hidden›');
    const other = { ...said, talk: [{ say: 'who', answer: 'g' }], refusals: [] };
    expect(concealed(other, secretsIn(file))).toBe(other);
  });
});

describe('what was recorded with the name of one file', () => {
  const of = (...lines: string[]) =>
    remarksOfSense(
      parseFamily(
        `family: gates
title: Gates
maker: own
kind: other
models: [{ model: G, revisions: ['1'] }]
versions: { patterns: ['(?P<n>\\d+\\.\\d+)'], order: [{ part: n }], write: '{n}' }
shell: { prompt: '> $', limit: 9 s }
procedures:
  record: { do: [{ say: who, capture: ['^runs (?P<v>\\S+)$'] }], gives: { firmware: '\${v}', bootCount: '\${v}' } }
  activate: { do: [${lines.map((line) => `{ say: '${line}' }`).join(', ')}] }
`,
        'gates.yaml',
      ),
    ).map((r) => r.message);
  it.each([
    ['next gate-2.4.img', '"gate-2.4.img" would be typed as it stands at every upgrade: is ${imageFile} meant?'],
    ['use v2.4 now', '"v2.4" would be typed as it stands at every upgrade: is ${imageVersion} meant?'],
  ])('%s is told', (line, message) => expect(of('sure', line)).toEqual([message]));
  it.each(['next ${imageFile}', 'next ${imageVersion}-2.4', 'bring x from 127.0.0.1 69', 'slot 2', 'wait 2.5'])('%s is not', (line) =>
    expect(of(line)).toEqual([]),
  );
});

describe('by what it is seen that a device waits', () => {
  const talk = (...answers: string[]) => answers.map((answer) => ({ say: 'x', answer }));
  it('is the end that most of its answers share, under whatever name', () => {
    expect(promptOf({ device: 'gate-1', greeting: 'hello\r\ngate-1> ', talk: talk('x\ngate-1> ', 'really? ') })).toBe(
      '(?:^|\\n)[A-Za-z0-9._-]+> *$',
    );
    expect(promptOf({ device: 'gate-1', greeting: '', talk: talk('x\n:: ', 'y\n:: ') })).toBe('(?:^|\\n):: *$');
    expect(promptOf({ device: 'gate-1', greeting: '', talk: [] })).toBeNull();
  });
});

it('a draft is a family file that fits, whatever was answered', () => {
  const of = {
    title: "Bob's: boards #1",
    maker: 'own',
    kind: 'other' as const,
    model: 'B: 1',
    revision: null,
    device: 'x',
    date: '2026-11-27',
  };
  const all: DraftOf['answers'][] = [{}, { http: { server: "it's {odd} #", title: 'a: b' }, snmp: { objectId: '1.3.6.1.4.1.32473.9' } }];
  for (const answers of all) {
    const text = draftFamily({ ...of, family: 'boards', answers, versions: ['1.0', '1.1'], told: null });
    expect(parseFamily(text, 'boards.yaml')).toMatchObject({
      family: 'boards',
      title: of.title,
      models: [{ model: 'B: 1', revisions: ['-'] }],
    });
  }
});

describe('how a device says no', () => {
  it.each([
    ['fetch x', 'fetch x\r\nno: fetch ended, timed out\r\nsw :: ', '^no: '],
    ['blink', 'what? "blink" is no word of mine\n', '^what\\? '],
    ['copy a', '% Refused by policy 17\n', '^% Refused'],
    ['go', 'Denied\n> ', '^Denied'],
    ['POST /serve', 'jammed\n', '^jammed'],
    ['x', '\r\n', null],
  ])('after %j, %j: %j', (after, answer, when) => {
    expect(refusalOf(after, answer)).toBe(when);
  });
});

describe('a request as a person writes it', () => {
  it.each([
    ['GET /state', { method: 'GET', path: '/state', type: 'text/plain' }],
    ['POST /restart {"sure":true}', { method: 'POST', path: '/restart', type: 'application/json', body: '{"sure":true}' }],
    ['PUT /mode name=quiet&for=1', { method: 'PUT', path: '/mode', type: 'application/x-www-form-urlencoded', body: 'name=quiet&for=1' }],
    ['POST /say good night', { method: 'POST', path: '/say', type: 'text/plain', body: 'good night' }],
    ['GET /state x', null],
    ['FETCH /state', null],
    ['POST state', null],
  ])('%s', (text, request) => {
    expect(requestIn(text)).toEqual(request);
  });
});

describe('a procedure over pages, with how it is refused', () => {
  const file = `family: gate
title: Gates
maker: Oddment
kind: other
models: [{ model: G, revisions: ['-'] }]
recognise: [{ http: { server: '^gate' } }]
versions: { patterns: ['(?P<n>\\d+)'], order: [{ part: n }], write: '{n}' }
procedures:
  record:
    do: [{ get: /state, capture: ['^serial (?P<serial>\\S+)$', '^version (?P<n>\\S+)$'] }]
    gives: { serial: '\${serial}', firmware: '\${n}' }
`;
  const conversation = readConversation(
    writeConversation({
      procedure: 'disarm',
      device: 'gate-1',
      recorded: '2026-11-27T00:00:00Z',
      greeting: '',
      talk: [{ ask: 'POST /disarm', body: '{"image":"g2.bin"}', status: 200, answer: 'done\n' }],
      given: {},
      finds: {},
      refusals: [{ after: 'POST /disarm', answer: 'no: nothing is armed\n', cause: 'activation-refused' }],
    }),
    'disarm.yaml',
  );
  const made = withProcedure(file, conversation).text;

  it('is written with its body, its type, and the pattern by which a refusal is seen', async () => {
    expect(parseFamily(made, 'gate.yaml').procedures.disarm!.do).toEqual([
      {
        ...{ request: '/disarm', method: 'POST', type: 'application/json', body: '{"image":"g2.bin"}' },
        fails: [{ when: '^no: ', cause: 'activation-refused' }],
      },
    ]);
    expect((await tryProcedure(parseFamily(made, 'gate.yaml'), conversation)).differences).toEqual([]);
  });

  it.each([
    ['when: "^no: "', 'when: ^never', 'it does not see that "POST /disarm" was refused, by "no: nothing is armed"'],
    ['activation-refused', 'device-busy', 'it takes the refusal of "POST /disarm" for device-busy, and it is activation-refused'],
  ])('is told where it does not see that any more: %s', async (from, to, difference) => {
    expect(made).toContain(from);
    const { differences } = await tryProcedure(parseFamily(made.replace(from, to), 'gate.yaml'), conversation);
    expect(differences).toEqual([difference]);
  });
});
