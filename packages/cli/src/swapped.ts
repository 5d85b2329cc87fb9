import type { SwappedView } from '@barrow/core';

/** What a swap did, or would do, and what to do next. */
export function swappedText(swap: SwappedView): string {
  const { deviceName, spareName, spareSerial, backup, firmware, address, same, added, removed, lines, cut, refused, before, done } = swap;
  const rest = [...lines, ...(cut > 0 ? [`… and ${cut} lines more`] : [])].join('\n');
  const count = `${removed} lines would go, ${added} would come`;
  if (!done)
    return [
      `${spareName} (serial ${spareSerial}) would get the settings of ${deviceName} from backup ${backup}, be restarted, answer at ${address}, and be ${deviceName} from then on.`,
      same ? 'It has these settings already.' : `Its settings: ${count}.\n${rest}`,
      '',
      `Nothing was changed. To do it: \`barrow device swap ${deviceName} --for ${spareName} --backup ${backup} --yes\`.`,
    ].join('\n');
  const kept = before === null ? '' : ` What the spare had before is kept as backup ${before}.`;
  const is = `${deviceName} is serial ${spareSerial} now, at ${address}, on ${firmware ?? 'the version of the backup'}.${kept}`;
  const next = `It is rolled out as any other: \`barrow device show ${deviceName}\` tells what it is behind.`;
  if (same) return `${is}\nIts settings are those of the backup. ${next}`;
  return [
    `${is}\nIt did not take all of its settings.`,
    ...(refused.length > 0 ? ['It refused:', ...refused.map((r) => `  ${r}`)] : []),
    `What is still otherwise (${count}):`,
    rest,
  ].join('\n');
}
