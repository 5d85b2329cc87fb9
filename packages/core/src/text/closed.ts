import { z } from 'zod';
import { meantName } from '../transfers/names.js';

/** An object that has these keys and no others; of another key it is told which one was probably meant, a line for each. */
export const closedObject = <S extends z.core.$ZodLooseShape>(shape: S): z.ZodObject<S, z.core.$strict> =>
  z.strictObject(shape, {
    error: (issue) => {
      if (issue.code !== 'unrecognized_keys') return undefined;
      const known = Object.keys(shape);
      return (issue.keys as string[])
        .map((key) => {
          const meant = meantName(key, known);
          return `"${key}" is not known here: ${meant === null ? `what is known is ${known.join(', ')}` : `is ${meant} meant?`}`;
        })
        .join('\n');
    },
  }) as never;
