import type { Instant, Ms } from '../units.js';
import type { Check } from './check.js';

/** RFC 3418 sysUpTime is TimeTicks (RFC 2578 §7.1.8): hundredths of a second modulo 2^32, about 497 days. */
export const sysUpTimeWrap: Ms = 2 ** 32 * 10;

/** What was read of a device's running time at one moment. */
export interface RunningTime {
  readonly readAt: Instant;
  /** RFC 3418 sysUpTime: how long the *agent* has run. Null when it could not be read. */
  readonly agentUptime: Ms | null;
  /** How often the device itself says it has booted; null when it cannot tell. */
  readonly bootCount: number | null;
  /** RFC 3411 snmpEngineBoots; some devices lose it with their settings, so a fall is no contradiction. */
  readonly engineBoots: number | null;
}

export interface RestartInput {
  readonly before: RunningTime;
  readonly after: RunningTime;
  readonly rebootSentAt: Instant;
  /** Whether the device was seen to answer nothing after the reboot was sent. */
  readonly seenSilent: boolean;
  /** Whether it runs another version than before. */
  readonly versionMoved: boolean;
  /** How fast the device's clock runs against ours; 1 for real devices. */
  readonly timeScale: number;
}

/**
 * Decides whether the device, and not only its agent, has restarted since it was told to.
 * The device's own boot count decides when it has one; otherwise a restarted sysUpTime counts together with a
 * silence, unless sysUpTime would have wrapped by itself; and where neither is told, another version after a silence.
 */
export function checkRestart(input: RestartInput): Check {
  const { before, after, rebootSentAt, seenSilent, versionMoved, timeScale } = input;
  const evidence: string[] = [];
  let counted: boolean | null = null;
  if (before.bootCount !== null && after.bootCount !== null) {
    counted = after.bootCount > before.bootCount;
    evidence.push(`the device counts ${before.bootCount} boots before, ${after.bootCount} after`);
  }
  let agent: boolean | null = null;
  if (before.agentUptime !== null && after.agentUptime !== null) {
    const elapsed = (after.readAt - before.readAt) * timeScale;
    const wrapped = before.agentUptime + elapsed >= sysUpTimeWrap;
    const sinceReboot = (after.readAt - rebootSentAt) * timeScale;
    // Shorter than the time since the restart, or than before: it began after it.
    agent = after.agentUptime <= sinceReboot || after.agentUptime < before.agentUptime;
    evidence.push(`sysUpTime was ${duration(before.agentUptime)}, is ${duration(after.agentUptime)}`);
    if (agent && wrapped) {
      agent = null;
      evidence.push('sysUpTime would have wrapped by itself (497 days), so it proves nothing here');
    }
  }
  if (before.engineBoots !== null && after.engineBoots !== null && before.engineBoots !== after.engineBoots)
    evidence.push(`snmpEngineBoots went from ${before.engineBoots} to ${after.engineBoots}`);
  evidence.push(seenSilent ? 'the device was silent in between' : 'the device was not seen silent in between');
  // Where neither boots nor a running time are told, another version after a silence is the proof: it was loaded by a restart.
  const untold = counted === null && (before.agentUptime === null || after.agentUptime === null);
  if (untold) evidence.push(versionMoved ? 'it runs another version than before' : 'it tells neither boots nor a running time');
  const restarted = counted ?? (untold ? seenSilent && versionMoved : agent === true && seenSilent);
  return {
    name: 'restart',
    result: restarted ? 'passed' : 'failed',
    before: before.agentUptime === null ? 'not known' : `up ${duration(before.agentUptime)}`,
    after: after.agentUptime === null ? 'not known' : `up ${duration(after.agentUptime)}`,
    evidence,
    cause: restarted ? null : 'restart-not-proven',
  };
}

/** A span as people read it: the two largest units, e.g. `3 d 4 h`, `12 min 5 s`. */
export function duration(span: Ms): string {
  const s = Math.round(span / 1000);
  if (span <= 0) return '0 s';
  if (s < 1) return `${Math.max(0, Math.round(span))} ms`;
  const units: [string, number][] = [
    ['d', 86_400],
    ['h', 3600],
    ['min', 60],
    ['s', 1],
  ];
  const first = units.findIndex(([, n]) => s >= n);
  const [u1, n1] = units[first]!;
  const second = units[first + 1];
  const whole = Math.floor(s / n1);
  if (!second) return `${whole} ${u1}`;
  const rest = Math.floor((s - whole * n1) / second[1]);
  return rest > 0 ? `${whole} ${u1} ${rest} ${second[0]}` : `${whole} ${u1}`;
}
