import { z } from 'zod';
import { meantName } from '../transfers/names.js';

/** An object with these keys and no others. The fault has a line for each other key, with the key that was probably meant. */
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
