import { readFileSync } from 'node:fs';

/** The process that has a database open, so that another one can tell whether it still lives. */
export interface Holder {
  readonly pid: number;
  /** When the process was started, in clock ticks since the machine was (proc(5), field 22), or null where that cannot be told. */
  readonly startedTicks: string | null;
  /** The start of the machine, so that a number that was used again after a restart is nobody. */
  readonly machine: string | null;
}

const readOrNull = (file: string): string | null => {
  try {
    return readFileSync(file, 'utf8').trim();
  } catch {
    return null;
  }
};

/** proc(5): the name, which may hold spaces and parentheses, ends with the last parenthesis; `starttime` is the 20th field after it. */
const ticksOf = (pid: number): string | null => {
  const stat = readOrNull(`/proc/${pid}/stat`);
  if (stat === null) return null;
  const fields = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
  // A zombie (Z) or dead process (X) has ended; its parent has not asked for that yet.
  return fields[0] === 'Z' || fields[0] === 'X' ? null : (fields[19] ?? null);
};

/** Which start of the machine this is; null where that cannot be told. */
export const machineStart = (): string | null => readOrNull('/proc/sys/kernel/random/boot_id');

export const thisProcess = (): Holder => ({
  pid: process.pid,
  startedTicks: ticksOf(process.pid),
  machine: machineStart(),
});

/** Whether the process that wrote this still runs, and is not this one. */
export function isAlive(holder: Holder): boolean {
  const here = thisProcess();
  if (holder.pid === here.pid && holder.startedTicks === here.startedTicks) return false;
  if (holder.machine !== here.machine) return false;
  if (holder.startedTicks !== null) return ticksOf(holder.pid) === holder.startedTicks;
  try {
    process.kill(holder.pid, 0);
    return true;
  } catch {
    return false;
  }
}
