import type { Instant } from '../units.js';
import type { Command } from './decide.js';
import type { RolloutEvent } from './events.js';

/** The event by which a command is written down before it is carried out; null for one that changes nothing. */
export function eventOf(command: Command, at: Instant): RolloutEvent | null {
  switch (command.kind) {
    case 'enter-stretch': {
      const { run, stretch, attempt, claims } = command;
      return { kind: 'stretch-entered', at, run, stretch, attempt, claims: [...claims] };
    }
    case 'begin-step': {
      const { run, step, leg, attempt } = command;
      return { kind: 'step-begun', at, run, step, ...(leg === undefined ? {} : { leg }), attempt };
    }
    case 'reconcile': {
      const { run, step, leg } = command;
      return { kind: 'reconcile-begun', at, run, step, ...(leg === undefined ? {} : { leg }) };
    }
    case 'skip-run':
      return { kind: 'run-skipped', at, run: command.run, by: command.by, reason: command.reason };
    case 'withdraw-run':
      return { kind: 'run-withdrawn', at, run: command.run, reason: command.reason };
    case 'give-up':
      return { kind: 'run-given-up', at, run: command.run, reason: command.reason };
    case 'end-needless':
      return { kind: 'run-needless', at, run: command.run, need: command.need, detail: command.detail };
    case 'miss-run':
      return { kind: 'run-missed', at, run: command.run };
    case 'open-wave':
      return { kind: 'wave-opened', at, wave: command.wave };
    case 'end-wave':
      return { kind: 'wave-ended', at, wave: command.wave };
    case 'end-soak':
      return { kind: 'soak-ended', at, wave: command.wave };
    case 'pass-gate':
      return { kind: 'gate-passed', at, wave: command.wave };
    case 'hold':
      return { kind: 'held', at, by: 'Barrow', reason: command.reason };
    case 'resume':
      return { kind: 'continued', at, by: 'Barrow' };
    case 'end-rollout':
      return { kind: 'rollout-ended', at };
    case 'judge-soak':
    case 'wake':
      return null;
  }
}
