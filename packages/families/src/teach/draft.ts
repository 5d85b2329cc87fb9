import type { Kind, VersionScheme } from '@barrow/core';
import { stringify } from 'yaml';
import { escaped, schemeOf } from './versions.js';

/** What somebody knows of gear that no family fits, and what it answered. */
export interface DraftOf {
  readonly family: string;
  readonly title: string;
  readonly maker: string;
  readonly kind: Kind;
  readonly model: string;
  /** Its hardware revision; null: none is known. */
  readonly revision: string | null;
  readonly device: string;
  /** Of the day on which it was drafted. */
  readonly date: string;
  /** What it answered, by probe and what is looked at there: `http` → `server` → `tideboard/2.1`. */
  readonly answers: Readonly<Record<string, Readonly<Record<string, string>>>>;
  /** From the oldest to the newest. */
  readonly versions: readonly string[];
  /** The version that its answers tell without a procedure; null: none does. */
  readonly told: string | null;
}

/**
 * A word of its own answers by which devices of its kind are known: what another version would say otherwise is caught, or left
 * out, and so is the name of this one device.
 */
export function knownBy(value: string, versions: readonly string[], device = ''): string {
  const named = device === '' ? null : new RegExp(`(?<![A-Za-z0-9])${escaped(device)}(?![A-Za-z0-9])`).exec(value);
  if (named !== null && named.index > 0)
    return `^${escaped(value.slice(0, named.index))}\\S+${wordAfter(value.slice(named.index + device.length), versions)}`;
  // RFC 4253 §4.2: what stands first is the version of the protocol.
  const [protocol] = /^SSH-[\d.]+-/.exec(value) ?? [];
  if (protocol !== undefined && value.length > protocol.length)
    return `^${escaped(protocol)}${knownBy(value.slice(protocol.length), versions, device).slice(1)}`;
  const version = versions.find((v) => value.includes(v));
  if (version !== undefined && value.indexOf(version) >= 3)
    return `^${escaped(value.slice(0, value.indexOf(version)))}(?P<firmware>[^\\s,;()]+)`;
  const cuts = [...versions.map((v) => value.indexOf(v)), value.search(/[\s/_-]?v?\d+\.\d/)].filter((at) => at >= 0);
  const kept = cuts.length === 0 ? value : value.slice(0, Math.min(...cuts)).replace(/[\s/_(-]+v?$/i, '');
  const isWhole = kept === value;
  if (kept.trim().length < 3) return `^${escaped(value)}$`;
  return `^${escaped(kept)}${isWhole ? '$' : `${wordAfter(value.slice(kept.length), versions)}`}`;
}

/** After what varies, the next word without a digit, which may tell devices of its kind apart from others: `Debian` in `9.2 Debian-2`. */
function wordAfter(rest: string, versions: readonly string[]): string {
  if (versions.some((v) => rest.includes(v))) return '';
  const [, word] = /^\S*? ([A-Za-z]{3,})(?![A-Za-z0-9])/.exec(rest) ?? [];
  return word === undefined ? '' : `\\S* ${word}`;
}

/**
 * A family file to begin with: what the answers tell is in it, and comments say what is missing for the next thing that works.
 *
 * @throws ExamplesUnlike when the versions are of no common shape
 */
export function draftFamily(of: DraftOf): string {
  const scheme: VersionScheme = schemeOf(of.versions);
  const recognise = Object.fromEntries(
    Object.entries(of.answers).flatMap(([probe, told]) => {
      const rules = Object.entries(told).map(([key, value]) => [
        key,
        key === 'objectId' ? `^${escaped(value)}$` : knownBy(value, of.versions, of.device),
      ]);
      return rules.length === 0 ? [] : [[probe, Object.fromEntries(rules) as Record<string, string>]];
    }),
  );
  const part = (value: unknown): string => stringify(value, { lineWidth: 0 });
  const sections = [
    `# ${of.title}, drafted from what ${of.device} answered on ${of.date}. Change what is not so.
# \`barrow family check FILE\` tells what is wrong and what works so far; docs/families.md tells what every word means.
`,
    part({ family: of.family, title: of.title, maker: of.maker, kind: of.kind }),
    `# Every model, with the hardware revisions that its label or its maker's papers name; '-' where there are none.
${part({ models: [{ model: of.model, revisions: [of.revision ?? '-'] }] })}`,
    Object.keys(recognise).length === 0
      ? '# Nothing that it answers tells it from other gear: it can be recognised only by what its parent tells.\n'
      : `# It is of this family when all of one entry fits. Take out what other gear answers too.
${part({ recognise: [recognise] })}`,
    `# Read from ${of.versions.join(', ')}; what is compared first stands first.
${part({ versions: scheme })}`,
    `# What is missing:
#   record       tells its serial and its version: \`barrow family record FILE record ${of.device}\`${of.told === null ? '' : `, though its answers tell ${of.told} already`}
#   images       what its image files are called, so that they can be taken in
#   travel       how an image comes to it: it pulls it by TFTP or HTTP, or Barrow carries it
#   procedures   transfer, verify-image, activate and reboot, each recorded as \`record\` was
#   ways         which of these are done in which order, and from which on nothing may interrupt
`,
  ];
  return sections.join('\n');
}
