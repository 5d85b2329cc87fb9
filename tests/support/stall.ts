/** Keeps this thread from everything else for so many milliseconds, and no processor busy. */
export const stall = (ms: number): void => void Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, ms);
