import { describe, expect, it } from 'vitest';
import { CauseError } from '@barrow/core';
import {
  asSeen,
  loadFamilies,
  runProcedure,
  type Condition,
  type Family,
  type ProcedureStep,
  type Receiving,
  type Shell,
  type Snmp,
} from '@barrow/families';
import { WireError } from '@barrow/wire';

const base = loadFamilies().get('tarnbrook-access')!;

/** A device on paper: what it answers to each thing said, in pieces as they arrive. */
function paper(answers: Record<string, string[]>): Shell & { said: string[]; moved: string[] } {
  let output = '';
  const pending: string[] = [];
  const said: string[] = [];
  const moved: string[] = [];
  return {
    said,
    moved,
    send(text) {
      said.push(text);
      pending.push(...(answers[text.replace(/\n$/, '')] ?? [`${text.trim()}\r\nwhat? "${text.trim()}" is no word of mine\r\nsw-1 :: `]));
    },
    async take(test, limitMs) {
      for (;;) {
        const hit = test(output);
        if (hit === 'moved') moved.push(output);
        else if (hit) {
          output = output.slice(hit.length);
          return hit.found;
        }
        const piece = pending.shift();
        if (piece === undefined) throw new WireError('timeout', `nothing within ${limitMs}`);
        output += piece;
      }
    },
    async ended() {},
  };
}

const withSteps = (steps: ProcedureStep[], gives: Record<string, string> = {}): Family => ({
  ...base,
  procedures: { ...base.procedures, record: { do: steps, gives } },
});
const run = (shell: Shell, steps: ProcedureStep[], gives: Record<string, string> = {}, onProgress?: (p: number) => void) =>
  runProcedure('record', { family: withSteps(steps, gives), shell, given: { want: '4.3.0' }, timeScale: 1, onProgress });

describe('what is sent to a device', () => {
  const say = (template: string, given: Record<string, string>) => {
    const shell = paper({});
    const ran = runProcedure('record', { family: withSteps([{ say: template }]), shell, given, timeScale: 1 });
    return ran.then(
      () => ({ said: shell.said, cause: null }),
      (error: CauseError) => ({ said: shell.said, cause: error.code }),
    );
  };
  it.each([
    ['storeAddress', '127.0.0.1\nblink 7\nrestart\nyes'],
    ['storeAddress', '127.0.0.1 restart'],
    ['storeAddress', 'a;b'],
    ['storePort', '69 now'],
    ['imageBytes', '12k'],
    ['fileName', 'a.simg\rrestart'],
    ['imageVersion', '4.3.0\u2028restart'],
    ['anything', 'one\u0000two'],
  ])('never is a %s that holds %j', async (name, value) => {
    expect(await say(`fetch \${${name}}`, { [name]: value })).toEqual({ said: [], cause: 'value-unsafe' });
  });
  it('may be an address, a host name, a name with spaces', async () => {
    for (const value of ['127.0.0.1', '::1', 'store.quay.example'])
      expect((await say('fetch ${storeAddress}', { storeAddress: value })).said).toEqual([`fetch ${value}\n`]);
    expect((await say('fetch ${fileName}', { fileName: 'a file.simg' })).said).toEqual(['fetch a file.simg\n']);
  });
  it("keeps a shell's own variables where they are doubled", async () => {
    expect((await say('cp ${file} $${HOME}/', { file: 'x' })).said).toEqual(['cp x ${HOME}/\n']);
  });
});

describe('a procedure', () => {
  it('turns pages, strips the echo, and reads what the terminal would show', async () => {
    const shell = paper({ tell: ['tell\r\none\r\ntw', 'o\r\n-- space goes on --'], ' ': ['\r                   \rthree\r\nsw-1 :: '] });
    const { gives } = await run(shell, [{ say: 'tell', keep: 'all' }], { all: '${all}' });
    expect(gives['all']).toBe('one\ntwo\nthree');
    expect(shell.said).toEqual(['tell\n', ' ']);
  });

  it('captures, makes rows, picks one, and checks', async () => {
    const shell = paper({ slots: ['slots\r\nslot 1: 4.2.1 running\r\nslot 2: 4.3.0 spare\r\nroom 77\r\nsw-1 :: '] });
    const steps: ProcedureStep[] = [
      {
        say: 'slots',
        capture: ['^room (?P<room>\\d+)$'],
        rows: { into: 'slots', pattern: '^slot (?P<slot>\\d): (?P<version>\\S+) (?P<use>\\S+)$' },
      },
      { pick: { from: 'slots', where: { value: '${use}', is: 'spare' }, as: 'spare', otherwise: 'unexpected-answer' } },
      { check: { value: '${spare.version}', is: '${want}' }, cause: 'image-refused', detail: 'no' },
      { when: { value: '${room}', atLeast: '70' }, do: [{ set: { big: 'yes' } }] },
    ];
    const { gives, tables } = await run(shell, steps, { spare: '${spare.slot}', big: '${big|no}' });
    expect(gives).toEqual({ spare: '2', big: 'yes' });
    expect(tables['slots']!.length).toBe(2);
  });

  it("ties the device's words to a cause, and quotes them made safe", async () => {
    const shell = paper({ go: ['go\r\nno: full \u001b[31mup\r\nsw-1 :: '] });
    await expect(run(shell, [{ say: 'go', fails: [{ when: '^no: full', cause: 'no-space' }] }])).rejects.toMatchObject({
      code: 'no-space',
      detail: 'to "go" the device said: no: full \\x1b[31mup',
    });
  });

  it('names what was not told instead of going on with nothing', async () => {
    await expect(run(paper({ a: ['a\r\nsw-1 :: '] }), [{ say: 'a' }], { x: '${never}' })).rejects.toMatchObject({
      code: 'unexpected-answer',
      detail: expect.stringContaining('"never"') as string,
    });
  });

  it('tells progress while the answer is coming, and never backwards', async () => {
    const told: number[] = [];
    const shell = paper({ get: ['get\r\n', 'at 5%\r\n', 'at 5%\r\nat 40%\r\n', 'at 100%\r\nsw-1 :: '] });
    await run(shell, [{ say: 'get', progress: 'at (?P<percent>\\d+)%' }], {}, (p) => told.push(p));
    expect(told).toEqual([5, 40, 100]);
    // Each of them begins the limit anew; what tells the same once more does not.
    expect(shell.moved).toEqual(['get\r\nat 5%\r\n', 'get\r\nat 5%\r\nat 5%\r\nat 40%\r\n']);
  });

  it('repeats until it is so', async () => {
    let asked = 0;
    const shell = paper({});
    const counting: Shell = {
      ...shell,
      send: () => void asked++,
      take: async (test) => {
        const hit = test(`ask\r\n${asked < 3 ? 'busy' : 'idle'}\r\nsw-1 :: `);
        if (hit === null || hit === 'moved') throw new Error('no end');
        return hit.found;
      },
    };
    await run(counting, [
      {
        repeat: { every: 1, limit: 1000, until: { value: '${work}', is: 'idle' }, otherwise: 'device-busy' },
        do: [{ say: 'ask', capture: ['^(?P<work>busy|idle)$'] }],
      },
    ]);
    expect(asked).toBe(3);
  });

  it('that waits in vain ends with a cause, with the last words', async () => {
    await expect(run(paper({ x: ['x\r\nstill thinking'] }), [{ say: 'x' }])).rejects.toMatchObject({ code: 'no-answer-in-time' });
  });

  it('is not confused by a prompt in the middle of a line', async () => {
    const shell = paper({ t: ['t\r\nnote: sw-1 :: is the prompt\r\nend\r\nsw-1 :: '] });
    const { gives } = await run(shell, [{ say: 't', keep: 'all' }], { all: '${all}' });
    expect(gives['all']).toBe('note: sw-1 :: is the prompt\nend');
  });
});

describe('a file that the device sends', () => {
  const place = (content: string | Error) => {
    const happened: string[] = [];
    const receive = async (): Promise<Receiving> => ({
      given: { receiveName: 'keep-1', storeAddress: '127.0.0.1', storePort: '69' },
      content: async () => {
        happened.push('asked for');
        if (content instanceof Error) throw content;
        return content;
      },
      explain: async (error) => {
        happened.push(`explained ${(error as CauseError).code}`);
        return new CauseError('way-to-store-blocked', 'seen from the store');
      },
      end: () => happened.push('ended'),
    });
    return { receive, happened };
  };
  const steps: ProcedureStep[] = [
    {
      receive: 'settings',
      do: [{ say: 'send to ${storeAddress} ${storePort} ${receiveName}', fails: [{ when: '^no: ', cause: 'never-asked' }] }],
    },
  ];
  const going = (shell: Shell, receive: (() => Promise<Receiving>) | null) =>
    runProcedure('record', { family: withSteps(steps, { text: '${settings}' }), shell, given: {}, timeScale: 1, receive });
  const said = 'send to 127.0.0.1 69 keep-1';

  it('is awaited under its name, and becomes a value', async () => {
    const { receive, happened } = place('name sw-1\n');
    expect((await going(paper({ [said]: [`${said}\r\nsent\r\nsw-1 :: `] }), receive)).gives['text']).toBe('name sw-1\n');
    expect(happened).toEqual(['asked for', 'ended']);
  });

  it('is explained by who awaited it when it does not come, and is awaited no longer', async () => {
    const { receive, happened } = place('');
    const refusing = paper({ [said]: [`${said}\r\nno: no way there\r\nsw-1 :: `] });
    await expect(going(refusing, receive)).rejects.toMatchObject({ code: 'way-to-store-blocked' });
    expect(happened).toEqual(['explained never-asked', 'ended']);
    const silent = place(new CauseError('never-asked', 'nothing came'));
    await expect(going(paper({ [said]: [`${said}\r\nsent\r\nsw-1 :: `] }), silent.receive)).rejects.toThrow('seen from the store');
    expect(silent.happened).toEqual(['asked for', 'explained never-asked', 'ended']);
  });

  it('is not asked for where nothing can take it', async () => {
    await expect(going(paper({}), null)).rejects.toMatchObject({ code: 'service-fault' });
  });
});

describe('every file of an image', () => {
  it('is uploaded in the order that the family states, and those that it does not name last, as they came', async () => {
    const files = ['radio.x', 'readme', 'system.x', 'notes', 'pages.x'].map((name) => ({ name, path: '', bytes: 1, sha256: '' }));
    const sent: string[] = [];
    const carry = {
      files,
      by: async (file: { name: string }, how: { to: string }) => {
        sent.push(`${file.name} to ${how.to}`);
        return { status: 200, body: '' };
      },
    };
    const going = (order?: string[]) => {
      const steps: ProcedureStep[] = [
        { upload: '/bay/${fileName}', over: 'sftp', field: '', method: 'PUT', ...(order === undefined ? {} : { order }) },
      ];
      return runProcedure('record', { family: withSteps(steps), shell: null, given: {}, timeScale: 1, carry });
    };
    await going(['^system', '^pages', '^radio']);
    expect(sent.splice(0)).toEqual(['system.x', 'pages.x', 'radio.x', 'readme', 'notes'].map((name) => `${name} to /bay/${name}`));
    await going();
    expect(sent).toEqual(files.map(({ name }) => `${name} to /bay/${name}`));
  });

  it('is spoken of in its order', async () => {
    const files = ['a', 'b'].map((name, i) => ({ name, path: '', bytes: i, sha256: `${i}` }));
    const shell = paper(Object.fromEntries(['test a 0 0', 'test b 1 1'].map((t) => [t, [`${t}\r\nsw-1 :: `]])));
    const steps: ProcedureStep[] = [{ eachFile: [{ say: 'test ${fileName} ${fileBytes} ${fileSha256}' }] }];
    const carry = { files, by: async () => ({ status: 200, body: '' }) };
    await runProcedure('record', { family: withSteps(steps), shell, given: {}, timeScale: 1, carry });
    expect(shell.said).toEqual(['test a 0 0\n', 'test b 1 1\n']);
  });
});

describe('what a terminal would show', () => {
  it.each([
    ['a\r\nb', 'a\nb'],
    ['12345\rab', 'ab345'],
    ['ab\bc', 'ac'],
    ['more\r    \rnext', 'next'],
  ])('%j is %j', (output, seen) => expect(asSeen(output)).toBe(seen));
});

describe('a page of a device', () => {
  const pages = (found: Record<string, string | number>) => ({
    asked: [] as string[],
    get(path: string) {
      this.asked.push(path);
      const body = found[path];
      return Promise.resolve(typeof body === 'string' ? { status: 200, body } : { status: body ?? 404, body: '' });
    },
  });
  const readPages = (found: Record<string, string | number>, steps: ProcedureStep[], more: object = {}) =>
    runProcedure('record', {
      family: { ...base, procedures: { record: { do: steps, ...more } } } as Family,
      shell: null,
      web: pages(found),
      given: { place: 'state' },
      timeScale: 1,
    });

  it('gives single values and rows, by pattern and by key, and yields tables of them', async () => {
    const list = JSON.stringify({ inputs: [{ input: 1, name: 'a', firmware: '1.0' }, { input: 2, name: 'b', nested: {} }, 'odd'] });
    const found = await readPages(
      { '/state': 'serial=S1\nfirmware=2.0\n', '/list': list },
      [
        { get: '/${place}', capture: ['^serial=(?P<serial>.+)$', '^firmware=(?P<firmware>.+)$'] },
        { get: '/list', json: { into: 'inputs', at: 'inputs' } },
      ],
      {
        gives: { serial: '${serial}' },
        yields: { children: { from: 'inputs', row: { name: '${name|nameless}', firmware: '${firmware|}', port: 'input ${input|?}' } } },
      },
    );
    expect(found.gives).toEqual({ serial: 'S1' });
    expect(found.tables['children']).toEqual([
      { name: 'a', firmware: '1.0', port: 'input 1' },
      // What the row does not have is looked for among the single values.
      { name: 'b', firmware: '2.0', port: 'input 2' },
      { name: 'nameless', firmware: '2.0', port: 'input ?' },
    ]);
  });

  it('that is missing, is no JSON, or has no list is an unexpected answer', async () => {
    const json: ProcedureStep[] = [{ get: '/x', json: { into: 'rows', at: 'rows' } }];
    for (const page of [404, 'not json', '{}', 'null', '[]'])
      await expect(readPages({ '/x': page }, json)).rejects.toMatchObject({ code: 'unexpected-answer' });
    await expect(
      readPages({ '/x': 'no such user' }, [{ get: '/x', fails: [{ when: '^no such', cause: 'login-refused' }] }]),
    ).rejects.toMatchObject({
      code: 'login-refused',
    });
  });

  it('shows nothing of a device as anything but text', async () => {
    const found = await readPages({ '/x': JSON.stringify([{ name: '\u001b[2Jred' }]) }, [{ get: '/x', json: { into: 'rows' } }]);
    expect(found.tables['rows']).toEqual([{ name: '\\x1b[2Jred' }]);
  });
});

describe('a SIP message', () => {
  const answered = (answers: { status: number; head: string; body?: string }[]) => {
    const asked: { method: string; body?: string | undefined; event?: string | undefined }[] = [];
    const ask = (request: (typeof asked)[number]) => {
      asked.push(request);
      return Promise.resolve({ body: '', ...answers.shift()! });
    };
    const speak = (steps: ProcedureStep[], more: object = {}, gives: Record<string, string> = {}) =>
      runProcedure('record', {
        family: withSteps(steps, gives),
        shell: null,
        sip: { ask },
        given: { storeAddress: '127.0.0.1' },
        timeScale: 1,
        ...more,
      });
    return { asked, speak };
  };
  const type = 'text/plain';

  it('carries what is known, and its headers become values', async () => {
    const { asked, speak } = answered([{ status: 200, head: 'SIP/2.0 200 OK\nUser-Agent: one/2.0' }]);
    const { gives } = await speak(
      [{ sip: 'MESSAGE', type, body: 'look at ${storeAddress}', capture: ['^User-Agent: (?P<agent>.+)$'] }],
      {},
      { firmware: '${agent}' },
    );
    expect(gives).toEqual({ firmware: 'one/2.0' });
    expect(asked).toMatchObject([{ method: 'MESSAGE', body: 'look at 127.0.0.1' }]);
  });
  it('never carries a line that a value brings', async () => {
    const { asked, speak } = answered([]);
    await expect(speak([{ sip: 'MESSAGE', type, body: '${name}' }], { given: { name: 'a\nrestart' } })).rejects.toMatchObject({
      code: 'value-unsafe',
    });
    expect(asked).toEqual([]);
  });
  it('that is refused is told in the words of the device, by the cause that the family names', async () => {
    const busy = { status: 486, head: 'SIP/2.0 486 Busy Here\nX: y' };
    const { speak } = answered([busy, busy]);
    await expect(speak([{ sip: 'OPTIONS', type, fails: [{ when: '^SIP/2\\.0 486 ', cause: 'device-busy' }] }])).rejects.toMatchObject({
      code: 'device-busy',
      detail: expect.stringContaining('486 Busy Here') as string,
    });
    await expect(speak([{ sip: 'OPTIONS', type }])).rejects.toMatchObject({ code: 'unexpected-answer' });
  });
  it('that asks a phone which is registered nowhere is answered all the same; what it is told to do is refused', async () => {
    const gone = { status: 480, head: 'SIP/2.0 480 Temporarily Unavailable\nUser-Agent: one/2.0' };
    const { speak } = answered([gone, gone]);
    const step = { type, capture: ['^User-Agent: (?P<agent>.+)$'] };
    expect((await speak([{ sip: 'OPTIONS', ...step }], {}, { firmware: '${agent}' })).gives).toEqual({ firmware: 'one/2.0' });
    await expect(speak([{ sip: 'MESSAGE', ...step }])).rejects.toMatchObject({ code: 'unexpected-answer' });
  });
  it('and the wait for a fetch are not made where nothing can', async () => {
    for (const step of [{ sip: 'OPTIONS', type }, { fetched: { within: 1000 } }] as ProcedureStep[])
      await expect(runProcedure('record', { family: withSteps([step]), shell: null, given: {}, timeScale: 1 })).rejects.toMatchObject({
        code: 'service-fault',
      });
  });
  it('is followed by a wait for the fetch, for as long as the family says and never less than a while', async () => {
    const limits: number[] = [];
    const { speak } = answered([]);
    const fetched = (limit: number): Promise<void> => Promise.resolve(void limits.push(limit));
    await speak([{ fetched: { within: 600_000 } }], { fetched, timeScale: 10 });
    await speak([{ fetched: { within: 1000 } }], { fetched });
    expect(limits).toEqual([60_000, 5000]);
  });
});

describe('a condition', () => {
  const holdsFor = async (when: Condition, given: Record<string, string> = {}): Promise<boolean> => {
    const steps: ProcedureStep[] = [{ set: { it: 'no' } }, { when, do: [{ set: { it: 'yes' } }] }];
    const family = withSteps(steps, { firmware: '${it}' });
    const { gives } = await runProcedure('record', { family, shell: null, given: { a: '1', b: '2', ...given }, timeScale: 1 });
    return gives['firmware'] === 'yes';
  };
  const is = (value: string, what: string): Condition => ({ value, is: what });
  it.each<[string, Condition, boolean]>([
    ['any, when one holds', { any: [is('${a}', '9'), is('${b}', '2')] }, true],
    ['any, when none does', { any: [is('${a}', '9'), is('${b}', '9')] }, false],
    ['all, when one does not', { all: [is('${a}', '1'), is('${b}', '9')] }, false],
    ['all, when each does', { all: [is('${a}', '1'), { value: '${b}', atLeast: '2' }] }, true],
    ['not, of what holds', { not: is('${a}', '1') }, false],
    ['not, of any of what does not', { not: { any: [is('${a}', '2'), { all: [is('${a}', '1'), is('${b}', '1')] }] } }, true],
  ])('of %s', async (_, when, expected) => expect(await holdsFor(when)).toBe(expected));
  it('does not ask for what it need not know', async () => {
    expect(await holdsFor({ any: [is('${a}', '1'), is('${never}', '1')] })).toBe(true);
    await expect(holdsFor({ any: [is('${a}', '9'), is('${never}', '1')] })).rejects.toMatchObject({ code: 'unexpected-answer' });
  });
});

describe('a step for each row', () => {
  const rows = { into: 'bays', pattern: '^bay (?P<n>\\d) (?P<state>\\w+)$' };
  const answers = { tell: ['tell\r\nbay 1 full\r\nbay 2 empty\r\nbay 3 full\r\nsw-1 :: '] };
  const each = (where?: Condition): ProcedureStep[] => [
    { say: 'tell', rows },
    { forEach: { from: 'bays', as: 'bay', ...(where ? { where } : {}) }, do: [{ say: 'wipe ${bay.n}' }] },
  ];
  const wipes = Object.fromEntries([1, 2, 3].map((n) => [`wipe ${n}`, [`wipe ${n}\r\nsw-1 :: `]]));
  it('is taken in their order, for those that fit', async () => {
    const all = paper({ ...answers, ...wipes });
    await run(all, each());
    expect(all.said).toEqual(['tell\n', 'wipe 1\n', 'wipe 2\n', 'wipe 3\n']);
    const some = paper({ ...answers, ...wipes });
    await run(some, each({ not: { value: '${state}', is: 'empty' } }));
    expect(some.said).toEqual(['tell\n', 'wipe 1\n', 'wipe 3\n']);
  });
  it('tells each part of a pair in turn, the standby first, and nothing to the other when that one fails', async () => {
    const parts = { into: 'parts', pattern: '^part (?P<n>\\d) (?P<role>\\w+)$' };
    const told = { tell: ['tell\r\npart 1 active\r\npart 2 standby\r\nsw-1 :: '], 'take 1': ['take 1\r\nsw-1 :: '] };
    const turn = (role: string): ProcedureStep => ({
      forEach: { from: 'parts', as: 'part', where: { value: '${role}', is: role } },
      do: [{ say: 'take ${part.n}', fails: [{ when: '^no: ', cause: 'image-refused' }] }],
    });
    const steps: ProcedureStep[] = [{ say: 'tell', rows: parts }, turn('standby'), turn('active')];
    const both = paper({ ...told, 'take 2': ['take 2\r\nsw-1 :: '] });
    await run(both, steps);
    expect(both.said).toEqual(['tell\n', 'take 2\n', 'take 1\n']);
    const one = paper({ ...told, 'take 2': ['take 2\r\nno: too old\r\nsw-1 :: '] });
    await expect(run(one, steps)).rejects.toMatchObject({ code: 'image-refused' });
    expect(one.said).toEqual(['tell\n', 'take 2\n']);
  });
  it('is not taken where there are none, and ends with the first that fails', async () => {
    const none = paper({ tell: ['tell\r\nsw-1 :: '] });
    await run(none, each());
    expect(none.said).toEqual(['tell\n']);
    const bad = paper({ ...answers, 'wipe 1': wipes['wipe 1']! });
    await expect(run(bad, each())).rejects.toBeInstanceOf(CauseError);
    expect(bad.said).toEqual(['tell\n', 'wipe 1\n', 'wipe 2\n']);
  });
});

describe('a wait', () => {
  it('lasts as long as the family says in the time of the device, and ends when all is stopped', async () => {
    const from = performance.now();
    await runProcedure('record', { family: withSteps([{ wait: 5000 }]), shell: null, given: {}, timeScale: 100 });
    expect(performance.now() - from).toBeGreaterThanOrEqual(45);
    const stop = new AbortController();
    const waiting = runProcedure('record', {
      family: withSteps([{ wait: 3_600_000 }]),
      shell: null,
      given: {},
      timeScale: 1,
      signal: stop.signal,
    });
    stop.abort();
    await expect(waiting).rejects.toMatchObject({ code: 'session-lost' });
  });
});

describe('a question over SNMP', () => {
  const agent = (objects: Record<string, string>, refuses = false) => {
    const sets: unknown[] = [];
    const snmp: Snmp = {
      get: async (oids) => new Map(oids.flatMap((o) => (objects[o] === undefined ? [] : [[o, objects[o]]]))),
      walk: async (root) => new Map(Object.entries(objects).filter(([o]) => o.startsWith(`${root}.`))),
      set: async (values) => {
        if (refuses) throw new WireError('refused', 'NotWritable');
        sets.push(...values);
      },
    };
    const speak = (steps: ProcedureStep[], gives: Record<string, string> = {}, given: Record<string, string> = {}) =>
      runProcedure('record', { family: withSteps(steps, gives), shell: null, snmp, given, timeScale: 1 });
    return { sets, speak };
  };
  it('reads single values by name, and what is not there is not known', async () => {
    const { speak } = agent({ '1.3.6.1.2.1.1.5.0': ' strip-1 ' });
    const get = { name: '1.3.6.1.2.1.1.5.0', place: '1.3.6.1.2.1.1.6.${n}' };
    const { gives } = await speak([{ snmp: { get } }], { name: '${name}', firmware: '${place|nowhere}' }, { n: '0' });
    expect(gives).toEqual({ name: 'strip-1', firmware: 'nowhere' });
  });
  it('reads columns of a table as rows with their index', async () => {
    const { speak } = agent({ '1.9.1.7': 'pump', '1.9.2.7': '1', '1.9.1.4.2': 'lamp', '1.9.20.4.2': 'x' });
    const rows = { into: 'outlets', columns: { label: '1.9.1', on: '1.9.2' } };
    const { tables } = await speak([{ snmp: { rows } }]);
    expect(tables['outlets']).toEqual([
      { index: '7', label: 'pump', on: '1' },
      { index: '4.2', label: 'lamp' },
    ]);
  });
  it('sets what it says, in the place that a value tells', async () => {
    const { speak, sets } = agent({});
    await speak([{ snmp: { set: [{ oid: '1.9.3.${port}', type: 'integer', value: '${on}' }] } }], {}, { port: '4', on: '2' });
    expect(sets).toEqual([{ oid: '1.9.3.4', type: 'integer', value: '2' }]);
  });
  it('never goes where a value does not belong', async () => {
    const { speak, sets } = agent({});
    for (const given of [
      { port: '4.x', on: '2' },
      { port: '', on: '2' },
      { port: '4', on: 'two' },
      { port: '4', on: '2\n' },
    ])
      await expect(
        speak([{ snmp: { set: [{ oid: '1.9.3.${port}', type: 'integer', value: '${on}' }] } }], {}, given),
      ).rejects.toMatchObject({
        code: 'value-unsafe',
      });
    expect(sets).toEqual([]);
  });
  it('that the device refuses is told by the cause that the family names', async () => {
    const { speak } = agent({}, true);
    const set = [{ oid: '1.9.3.4', type: 'integer', value: '1' } as const];
    await expect(speak([{ snmp: { set }, refused: 'activation-refused' }])).rejects.toMatchObject({
      code: 'activation-refused',
      detail: 'NotWritable',
    });
    await expect(speak([{ snmp: { set } }])).rejects.toMatchObject({ code: 'unexpected-answer' });
  });
  it('is not asked where nothing can', async () => {
    await expect(run(paper({}), [{ snmp: { get: { a: '1.9.1.0' } } }])).rejects.toMatchObject({ code: 'service-fault' });
  });
});

describe('a JSON answer', () => {
  const page = (body: unknown, step: object) =>
    runProcedure('record', {
      family: withSteps([{ get: '/state', ...step } as ProcedureStep], { firmware: '${it|nothing}' }),
      shell: null,
      web: { get: async () => ({ status: 200, body: JSON.stringify(body) }) },
      given: {},
      timeScale: 1,
    });
  it('is read under keys within keys, and by a key that has a point in it', async () => {
    const it = async (body: unknown, path: string) => (await page(body, { fields: { it: path } })).gives['firmware'];
    expect(await it({ unit: { image: { now: '4.2' } } }, 'unit.image.now')).toBe('4.2');
    expect(await it({ 'unit.image': '4.3', unit: { image: '4.2' } }, 'unit.image')).toBe('4.3');
    for (const body of [{}, { unit: null }, { unit: 'x' }, { unit: [] }, null, 7]) expect(await it(body, 'unit.image')).toBe('nothing');
    expect(await it({}, 'constructor.name')).toBe('nothing');
  });
  it('tells its list under keys within keys', async () => {
    const { tables } = await page({ a: { b: [{ n: 1 }] } }, { json: { into: 'rows', at: 'a.b' } });
    expect(tables['rows']).toEqual([{ n: '1' }]);
    await expect(page({ a: { b: 1 } }, { json: { into: 'rows', at: 'a.b' } })).rejects.toMatchObject({ code: 'unexpected-answer' });
  });
});
