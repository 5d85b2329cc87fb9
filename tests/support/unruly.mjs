/**
 * Read before the service: makes the world around it unruly, as a file says (`UNRULY`) that is read at the start and at each SIGUSR2.
 *
 * - `clockMs`: how far its time of day is ahead of ours, as when a machine's clock is set;
 * - `writeMs`: how long its disk takes for each write and each commit;
 * - `lose`, `double`: the part of all datagrams, either way, that is lost, and that comes twice;
 * - `seed`: what the losing follows.
 */
import dgram from 'node:dgram';
import fs from 'node:fs';
import { createRequire, syncBuiltinESMExports } from 'node:module';

const file = process.env.UNRULY;
let how = { clockMs: 0, writeMs: 0, lose: 0, double: 0, seed: 1 };
const read = () => (how = { ...how, ...JSON.parse(fs.readFileSync(file, 'utf8')) });
read();
let state = how.seed >>> 0;
process.on('SIGUSR2', read);

const Real = Date;
globalThis.Date = class extends Real {
  constructor(...of) {
    if (of.length === 0) super(Real.now() + how.clockMs);
    else super(...of);
  }
  static now() {
    return Real.now() + how.clockMs;
  }
};

const still = new Int32Array(new SharedArrayBuffer(4));
/** A disk that is slow holds up who waits for it, and nobody else. */
const holdUp = () => how.writeMs > 0 && Atomics.wait(still, 0, 0, how.writeMs);
for (const name of ['writeSync', 'fsyncSync', 'renameSync']) {
  const real = fs[name];
  fs[name] = (...of) => (holdUp(), real(...of));
}
for (const name of ['write', 'writev', 'fsync', 'rename']) {
  const real = fs[name];
  fs[name] = (...of) => (how.writeMs > 0 ? setTimeout(() => real(...of), how.writeMs) : real(...of));
}
syncBuiltinESMExports();
const Sqlite = createRequire(new URL('../../packages/service/package.json', import.meta.url))('libsql');
const prepare = Sqlite.prototype.prepare;
Sqlite.prototype.prepare = function (text) {
  if (/^\s*commit/i.test(text)) holdUp();
  return prepare.call(this, text);
};

const dice = () => (state = (Math.imul(state, 1664525) + 1013904223) >>> 0) / 2 ** 32;
const { send, emit } = dgram.Socket.prototype;
dgram.Socket.prototype.send = function (...of) {
  if (how.lose > 0 && dice() < how.lose) {
    const done = of.at(-1);
    if (typeof done === 'function') process.nextTick(done, null, 0);
    return;
  }
  if (how.double > 0 && dice() < how.double) send.apply(this, typeof of.at(-1) === 'function' ? of.slice(0, -1) : of);
  send.apply(this, of);
};
dgram.Socket.prototype.emit = function (what, ...of) {
  if (what === 'message' && how.lose > 0 && dice() < how.lose) return true;
  if (what === 'message' && how.double > 0 && dice() < how.double) emit.call(this, what, ...of);
  return emit.call(this, what, ...of);
};
