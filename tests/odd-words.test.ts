import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkedFamily, oddGateFamily } from './support/odd-gate.js';
import { patient, setGates, type Gates } from './support/odd-gates.js';
import { hasChromium, openBrowser } from './support/browser.js';
import { barrow, type Served } from './support/service.js';

const question = `{ ask: { words: 'Which code does its panel show?', as: code, fits: '^[a-z]{2}-\\d{4}$', secret: true } }`;
const change = 'change: [{ activate: 2 s }, { reboot: 2 s }, { return: 5 s }, { checks: 2 s }]';
/** Gates that are armed with a code of their panel, and restarted by their ONVIF service. */
const family = [
  [
    'do: [{ request: /arm }]',
    `do: [${question}, { request: '/arm/\${code}', fails: [{ when: 'nothing here', cause: activation-refused }] }]`,
  ],
  [
    'do: [{ request: /restart }]',
    `do:
      - { onvif: GetDeviceInformation, fields: { runs: FirmwareVersion, model: Model } }
      - { onvif: SetHostname, body: '<tds:Name>\${model} runs \${runs}</tds:Name>' }
      - { onvif: SystemReboot, fields: { said: Message } }
      - check: { value: '\${said}', matches: '^down' }
        cause: unexpected-answer
        detail: 'it said \${said}'`,
  ],
  [
    '  confirm-image:\n',
    `  truth:
    do: [{ get: /state, capture: ['^armed (?P<armed>\\S+)$'] }]
    gives: { done: '\${armed}', words: 'it is not armed, after \${lostStep}' }
  confirm-image:
`,
  ],
  // Another way leads from older versions, and it is not taken.
  [
    '  - name: over its pages\n',
    `  - name: for old ones
    from: { below: '1.0' }
    stretches: { all: [{ preflight: 1 s }, { by-hand: 1 min, words: 'Carry it to the workshop.' }, { checks: 1 s }] }
    pointOfNoReturn: checks
    returns: { within: 1 min }
  - name: over its pages
    from: { atLeast: '1.0', below: '9.0' }
`,
  ],
].reduce((text, [from, to]) => text.replace(from!, () => to!), oddGateFamily(change, ''));

const eye = { name: 'eyes', kind: 'onvif', user: 'eye', secret: 'eye-word' } as const;

describe('a family whose procedures ask a person, and an ONVIF service', () => {
  let here: Gates;
  let served: Served;
  const runOf = async (id: string) => (await served.client.rollout(id)).runs[0]!;
  const begin = async (n: number): Promise<string> => {
    const { id } = await served.client.plan({ devices: [`gate-${n}`], first: 0, atOnce: 1 });
    await served.client.say(id, 'start');
    await expect.poll(async () => (await runOf(id)).asks, patient).toBe('Which code does its panel show?');
    return id;
  };
  const say = (...words: string[]) => barrow(['rollout', ...words], { data: here.data });
  const outcome = (id: string) => expect.poll(async () => (await runOf(id)).outcome, patient);
  beforeAll(async () => {
    here = await setGates(4, 131, family, [eye]);
    served = here.served;
  });
  afterAll(async () => {
    await served?.kill();
    await here?.end();
  });

  /** In the console: what does not fit is said in the dialog, and what was typed stays there. */
  async function answerInConsole(id: string): Promise<void> {
    const browser = await openBrowser();
    try {
      const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
      await page.goto(`${served.url}/where#token=${served.token}`);
      await page.getByRole('heading', { name: 'Where to look' }).waitFor();
      await page.goto(`${served.url}/rollouts/${id}`);
      await page.getByText('Which code does its panel show?').first().waitFor();
      await page.getByRole('button', { name: 'Answer' }).click();
      const dialog = page.getByRole('dialog', { name: 'gate-2 is waited for' });
      await dialog.getByText('Which code does its panel show?').waitFor();
      const field = dialog.getByRole('textbox');
      await field.fill('no idea');
      await dialog.getByRole('button', { name: 'Answer' }).click();
      await dialog.getByText('The answer cannot be that').waitFor();
      expect(await field.inputValue()).toBe('no idea');
      expect(here.gate(2).typed).toEqual([]);
      await field.fill('kw-1234');
      if (process.env['PICTURE']) await page.screenshot({ path: process.env['PICTURE'] });
      await dialog.getByRole('button', { name: 'Answer' }).click();
      await dialog.waitFor({ state: 'detached' });
    } finally {
      await browser.close();
    }
  }

  it('waits for the answer, takes only one that fits, and tells it to the device alone', async () => {
    const id = await begin(1);
    expect((await say('show', id)).out).toMatch(/gate-1: Which code does its panel show\? Then: `barrow rollout answer \S+ gate-1 ANSWER`/);
    expect(await runOf(id)).toMatchObject({ step: 'activate', asksToTell: true });
    expect(await say('done', id, 'gate-1')).toMatchObject({ code: 4, err: expect.stringContaining('An answer is waited for') as string });
    const unfit = await say('answer', id, 'gate-1', 'no idea');
    expect(unfit).toMatchObject({ code: 4, err: expect.stringContaining('The answer cannot be that') as string });
    expect(here.gate(1).typed).toEqual([]);
    expect(await say('answer', id, 'gate-1', 'kw-4711')).toMatchObject({ code: 0 });
    await outcome(id).toBe('verified');
    expect(await say('answer', id, 'gate-1', 'kw-4711')).toMatchObject({
      code: 4,
      err: expect.stringContaining('Nothing is waited for') as string,
    });
    // What the camera told was put into what it was told, as XML wants it, with a token of its own time.
    expect(here.gate(1)).toMatchObject({ typed: ['kw-4711', 'OG-1 &#38; more runs 1.0'], version: '2.0', boots: 4 });
    const kept = JSON.stringify(await served.client.run(id, 'gate-1'));
    expect(kept).toContain('Which code does its panel show?');
    expect(kept).not.toContain('kw-4711');
  });

  it('tells what the device says of a wrong answer, without the answer', async () => {
    const id = await begin(2);
    if (hasChromium) await answerInConsole(id);
    else await say('answer', id, 'gate-2', 'kw-1234');
    await outcome(id).toBe('failed');
    expect(await runOf(id)).toMatchObject({ step: 'activate', cause: { code: 'activation-refused' } });
    expect((await runOf(id)).detail).not.toContain('kw-1234');
  });

  it.each([
    ['left out', ['skip', 'gate-3', '--reason', 'nobody is at the gate'], 'skipped', 'nobody is at the gate; nobody answered'],
    ['withdrawn', ['stop'], 'withdrawn', 'the rollout was stopped; nobody answered'],
  ])('lets nobody wait who is %s meanwhile', async (_, [word, ...more], ends, why) => {
    const id = await begin(3);
    expect((await say(word!, id, ...more)).code).toBe(0);
    await outcome(id).toBe(ends);
    expect((await runOf(id)).detail).toContain(why);
    expect(here.gate(3)).toMatchObject({ typed: [], version: '1.0', boots: 3 });
  });

  it('is asked for the truth when the service was killed meanwhile, and asks again where nothing was done', async () => {
    const id = await begin(3);
    await served.kill();
    served = await here.start();
    await expect.poll(async () => (await runOf(id)).asks, patient).not.toBeNull();
    await say('answer', id, 'gate-3', 'kw-4711');
    await outcome(id).toBe('verified');
    const { events } = await served.client.run(id, 'gate-3');
    const truth = events.flatMap(({ event }) => (event.kind === 'reconciled' ? [event.truth, event.detail] : []));
    expect(truth).toEqual(['not-done', 'it is not armed, after activate']);
    expect(here.gate(3)).toMatchObject({ version: '2.0', boots: 4 });
  });

  it('is not begun anew where the device cannot tell what was done', async () => {
    here.gate(4).forgetful = true;
    const id = await begin(4);
    await served.kill();
    served = await here.start();
    await outcome(id).toBe('failed');
    expect(await runOf(id)).toMatchObject({ step: 'activate', cause: { code: 'outcome-unknown' }, asks: null });
    expect(here.gate(4)).toMatchObject({ typed: [], boots: 3 });
  });

  it('is refused by a service that does not know the login', async () => {
    await served.client.replaceCredential({ ...eye, secret: 'wrong' });
    const id = await begin(4);
    await say('answer', id, 'gate-4', 'kw-4711');
    await outcome(id).toBe('failed');
    expect(await runOf(id)).toMatchObject({ step: 'reboot', cause: { code: 'login-refused' } });
    expect(here.gate(4).boots).toBe(3);
  });
});

describe('a family file', () => {
  const asked = (procedure: string): string =>
    family.replace(`  ${procedure}:\n    do:`, () => `  ${procedure}:\n    do:\n      - { ask: { words: 'What?', as: what } }`);
  const from = (range: string): string => family.replace(`{ atLeast: '1.0', below: '9.0' }`, range);
  it.each([
    ['with questions, ONVIF and several ways', family, 'fits'],
    ['that asks where nobody is', asked('record'), 'record is carried out when nobody is there to be asked'],
    [
      'with an operation that is none',
      family.replace('onvif: SystemReboot', 'onvif: system reboot'),
      'an operation is named as its standard does',
    ],
    ['with a way that is never taken', from(`{ below: '1.0' }`), 'there is a way of system before it, so that this one is never taken'],
    ['with a range that has nothing in it', from(`{ atLeast: '2.0', below: '2.0' }`), 'no version is 2.0 or newer, older than 2.0'],
    ['with a range of what is no version', from(`{ atLeast: new }`), '"new" is no version as the family reads them'],
    [
      'with two ways of one name',
      family.replace('name: for old ones', 'name: over its pages'),
      'there is a way of system with this name before it',
    ],
  ])('%s', async (_, text, says) => expect(await checkedFamily(text)).toContain(says));
});
