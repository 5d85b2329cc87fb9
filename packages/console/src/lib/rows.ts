/** A list of which not all need be here. */
export interface Rows<T> {
  readonly length: number;
  /** One of them; undefined while it is not here. */
  at(index: number): T | undefined;
  /** Which are in view. */
  inView?(from: number, to: number): void;
}
