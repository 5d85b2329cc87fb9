/** The number of an outlet, a port or a line, as its name ends with it; empty when it ends with none. */
export const lastNumber = (name: string): string => /(\d+)\D*$/.exec(name)?.[1] ?? '';
