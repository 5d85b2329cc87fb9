import { apply, initialState, Ledger, type Command, type Plan, type RolloutEvent, type RolloutState } from '@barrow/core';

interface Busy {
  readonly run: string;
  readonly step: string;
}

/** A rollout in which nothing fails: what the scheduler commands happens, and steps end when they are told to. */
export class Playing {
  readonly ledger = new Ledger();
  readonly busy: Busy[] = [];
  state: RolloutState;
  now: number;

  constructor(
    plan: Plan,
    from: number,
    private readonly told: (event: RolloutEvent) => void = () => undefined,
  ) {
    this.state = initialState(plan);
    this.now = from;
    this.happen({ kind: 'rollout-started', at: from, by: 'bench' });
  }

  happen(event: RolloutEvent): void {
    this.told(event);
    this.state = apply(this.state, event);
    this.ledger.follow(this.state, event);
  }

  /** @throws Error for a command to which nothing but a failure leads */
  carryOut(command: Command): void {
    const at = this.now;
    switch (command.kind) {
      case 'enter-stretch':
        return this.happen({ ...command, kind: 'stretch-entered', at, claims: [...command.claims] });
      case 'begin-step':
        this.busy.push({ run: command.run, step: command.step });
        return this.happen({ kind: 'step-begun', at, run: command.run, step: command.step, attempt: command.attempt });
      case 'open-wave':
        return this.happen({ kind: 'wave-opened', at, wave: command.wave });
      case 'end-wave':
        return this.happen({ kind: 'wave-ended', at, wave: command.wave });
      case 'judge-soak':
        return this.happen({ kind: 'soak-judged', at, wave: command.wave, worse: null, findings: [], looks: 0 });
      case 'end-soak':
        return this.happen({ kind: 'soak-ended', at, wave: command.wave });
      case 'pass-gate':
        return this.happen({ kind: 'gate-passed', at, wave: command.wave });
      case 'end-rollout':
        return this.happen({ kind: 'rollout-ended', at });
      case 'wake':
        this.now = command.at;
        return;
      default:
        throw new Error(`a bench in which nothing fails cannot come to ${command.kind}`);
    }
  }

  /** Ends the step that is so far back among those in hand. @throws Error when none is: nothing would ever happen again */
  finish(index: number, facts?: Record<string, unknown>): void {
    const done = this.busy.splice(index, 1)[0];
    if (done === undefined) throw new Error('the bench waits for a step, and none is in hand');
    this.happen({
      kind: 'step-done',
      at: ++this.now,
      run: done.run,
      step: done.step,
      ...(done.step === 'checks' && facts ? { facts } : {}),
    });
  }
}
