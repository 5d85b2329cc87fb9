/** Which outlets of a device are off: they stay so until they are switched on again. `stays`: none can be switched off, or on. `hides`: it tells that all are on. */
export function outlets(
  turn: () => (outlet: number, on: boolean) => void,
  stays: (on: boolean) => boolean,
  hides: () => boolean,
): { readonly isOn: (outlet: number) => boolean; readonly turn: (outlet: number, on: boolean) => void } {
  const off = new Set<number>();
  return {
    isOn: (outlet) => !off.has(outlet) || hides(),
    turn: (outlet, on) => {
      if (off.has(outlet) !== on || stays(!on)) return;
      if (on) off.delete(outlet);
      else off.add(outlet);
      turn()(outlet, on);
    },
  };
}
