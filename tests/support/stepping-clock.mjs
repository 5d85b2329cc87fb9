/** Read before the service: on a signal its time of day goes one hour back, as when a machine's clock is set right. */
const Real = Date;
let offset = 0;
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
