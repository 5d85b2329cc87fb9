import type { Family } from '@barrow/families';
import type { Plan, RolloutState, StepName, Waiting } from '@barrow/core';
import type { WriteTrouble } from '../data/database.js';
import type { AppointmentRow } from '../data/entities.js';
import type { Trails } from './trail.js';

/** A rollout in memory: the fold of its journal, and what is being done about it. */
export interface ActiveRollout {
  readonly plan: Plan;
  state: RolloutState;
  /** What each run's steps found. */
  readonly trails: Trails;
  /** A family as its file was when the plan was made. */
  readonly familyOf: (name: string) => Family | null;
  readonly percent: Map<string, number>;
  /** What a step in hand waits for that is none of its device's doing, by run. */
  readonly delayed: Map<string, string>;
  /** What a person is asked to tell now, by run. */
  readonly questions: Map<string, string>;
  /** Families of which a person was shown what they would send, and has said that it may be sent. */
  readonly shown: Set<string>;
  /** Steps being carried out, by run. */
  readonly doing: Map<string, { readonly step: StepName; readonly abort: AbortController; readonly done: Promise<void> }>;
  /** The moment of its last event, and its number. */
  lastAt: number;
  seq: number;
  /** Of how many events the state is that was kept last. */
  kept: number;
  /** Why its journal cannot be followed any further: nothing more is begun, and what it holds it keeps. */
  fault: string | null;
  /** When it begins by itself, and by when it is to be done. */
  readonly begins: () => AppointmentRow | null;
  /** Why nothing can be written now. */
  readonly unwritten: () => WriteTrouble | null;
  /** Why a run is not taken on now. */
  readonly waits: (index: number) => Waiting | null;
  /** Everything that changes the state goes one after the other. */
  chain: Promise<unknown>;
  wake: NodeJS.Timeout | null;
}
