/**
 * Read before the service: its time of day is as far ahead as it is told to be, and on a signal it goes one hour back, as when a machine's
 * clock is set right.
 */
const Real = Date;
let offset = Number(process.env.CLOCK_AHEAD_MS ?? 0);
process.on('SIGUSR2', () => (offset -= 3_600_000));
globalThis.Date = class extends Real {
  constructor(...of) {
    if (of.length === 0) super(Real.now() + offset);
    else super(...of);
  }
  static now() {
    return Real.now() + offset;
  }
};
