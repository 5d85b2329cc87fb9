import { cause, CauseError, pattern, safeText } from '@barrow/core';
import { RE2JS } from 're2js';
import { everyStep } from '../schema/walk.js';
import { runProcedure, type Carrier, type Heard, type Shell, type Web } from '../procedure/run.js';
import type { Family, ProcedureName } from '../schema/shape.js';
import type { Conversation, Exchange } from './conversation.js';

/** Procedures that only ask: to try them does a device nothing. */
export const onlyAsk: readonly ProcedureName[] = [
  'record',
  'children',
  'particulars',
  'neighbours',
  'ready',
  'unsaved',
  'next-boot',
  'storage',
];

/** How a procedure went against a conversation. */
export interface Tried {
  readonly procedure: string;
  /** What it typed or asked, in order, as far as it came. */
  readonly steps: readonly string[];
  readonly gives: Readonly<Record<string, string>>;
  /** Where it differs from what the person did, or from what was to be found; none: it does the same. */
  readonly differences: readonly string[];
}

/** What was said differs from what was recorded. */
class Differs extends Error {}

const clip = (text: string): string => JSON.stringify(safeText(text, 120));

/** Plays the device: whoever says what was said then is answered as then. */
class Player implements Shell, Web {
  readonly steps: string[] = [];
  #next = 0;
  #output: string;
  #ended = false;

  constructor(private readonly conversation: Conversation) {
    this.#output = '';
  }

  get left(): readonly Exchange[] {
    return this.conversation.talk.slice(this.#next);
  }

  #take(said: string, words: string): Exchange {
    this.steps.push(said);
    const next = this.conversation.talk[this.#next];
    if (next === undefined) throw new Differs(`${words} ${clip(said)}, and nothing more was said then`);
    this.#next++;
    return next;
  }

  send(text: string): void {
    const said = text.replace(/\n$/, '');
    const then = this.#take(said, 'it types');
    if (!('say' in then)) throw new Differs(`it types ${clip(said)}, and ${clip(then.ask)} was asked then`);
    if (then.say !== said) throw new Differs(`it types ${clip(said)}, and ${clip(then.say)} was typed then`);
    this.#output += then.answer;
    this.#ended = then.ends === true;
  }

  take<T>(test: (output: string) => Heard<T>): Promise<T> {
    const hit = test(this.#output.replace(/\r/g, ''));
    if (hit === null || hit === 'moved')
      return Promise.reject(
        new Differs(
          `after ${clip(this.steps.at(-1) ?? 'the login')} it waits for an end that did not come; the last was ${clip(this.#output.slice(-80))}`,
        ),
      );
    this.#output = '';
    return Promise.resolve(hit.found);
  }

  ended(): Promise<void> {
    return this.#ended
      ? Promise.resolve()
      : Promise.reject(new Differs(`after ${clip(this.steps.at(-1) ?? '')} it waits for the end of the session, which did not come`));
  }

  get(path: string): Promise<{ readonly status: number; readonly body: string }> {
    return this.ask({ method: 'GET', path });
  }

  ask({ method, path }: { readonly method: string; readonly path: string }): Promise<{ readonly status: number; readonly body: string }> {
    const said = `${method} ${path}`;
    const then = this.#take(said, 'it asks');
    if (!('ask' in then)) throw new Differs(`it asks ${clip(said)}, and ${clip(then.say)} was typed then`);
    if (then.ask !== said) throw new Differs(`it asks ${clip(said)}, and ${clip(then.ask)} was asked then`);
    return Promise.resolve({ status: then.status, body: then.answer });
  }
}

/** By what a family sees in a procedure that the device refuses. */
const failsIn = (family: Family, name: ProcedureName): readonly { readonly when: string; readonly cause: string }[] => [
  ...[...everyStep(family.procedures[name]!.do)].flatMap(({ step }) => ('fails' in step ? (step.fails ?? []) : [])),
  ...(family.shell?.fails ?? []),
];

/** Plays a procedure against a conversation, with no device: what it says, what it finds, and where that is not what was meant. */
export async function tryProcedure(family: Family, conversation: Conversation): Promise<Tried> {
  const { procedure } = conversation;
  const player = new Player(conversation);
  if (family.procedures[procedure] === undefined)
    return { procedure, steps: [], gives: {}, differences: [`the family has no procedure ${procedure}`] };
  const differences: string[] = [];
  let gives: Readonly<Record<string, string>> = {};
  const carried: Carrier = () => Promise.reject(new Differs('it carries files to the device, which a conversation does not hold'));
  try {
    const result = await runProcedure(procedure, {
      family,
      shell: player,
      web: player,
      carry: { files: [], by: carried },
      fetched: () => Promise.resolve(),
      given: conversation.given,
      // No wait of the file is waited for: nobody is there.
      timeScale: 1_000_000,
    });
    gives = result.gives;
  } catch (error) {
    if (error instanceof CauseError) differences.push(`it ends with ${error.code} (${cause(error.code).what}): ${error.detail}`);
    else if (error instanceof Differs) differences.push(error.message);
    else throw error;
  }
  if (differences.length === 0 && player.left.length > 0)
    differences.push(`it ends, and ${player.left.map((e) => clip('say' in e ? e.say : e.ask)).join(', ')} was said then besides`);
  for (const { after, answer, cause: code } of conversation.refusals) {
    const seen = failsIn(family, procedure).find(({ when }) => pattern(when, RE2JS.MULTILINE).matcher(answer.replace(/\r/g, '')).find());
    if (seen === undefined) differences.push(`it does not see that ${clip(after)} was refused, by ${clip(answer.trim())}`);
    else if (seen.cause !== code) differences.push(`it takes the refusal of ${clip(after)} for ${seen.cause}, and it is ${code}`);
  }
  if (differences.length === 0)
    for (const [key, wanted] of Object.entries(conversation.finds)) {
      const found = gives[key];
      if (found === undefined) differences.push(`it does not tell ${key}, which is ${clip(wanted)}`);
      else if (found !== wanted) differences.push(`it tells ${key} as ${clip(found)}, and it is ${clip(wanted)}`);
    }
  return { procedure, steps: player.steps, gives, differences };
}
