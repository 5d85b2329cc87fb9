import { causes } from '@barrow/core';
import { z } from 'zod';
import { alternatives, familyShape, proceduresOf, wayStep } from './shape.js';
import { words } from './words.js';

/** A node of a JSON Schema (draft 2020-12), as far as it is looked at here. */
export interface SchemaNode {
  description?: string;
  type?: string | string[];
  properties?: Record<string, SchemaNode>;
  required?: string[];
  items?: SchemaNode;
  anyOf?: SchemaNode[];
  additionalProperties?: SchemaNode | boolean;
  enum?: unknown[];
  const?: unknown;
  default?: unknown;
  pattern?: string;
  $ref?: string;
  $defs?: Record<string, SchemaNode>;
  [key: string]: unknown;
}

const spanNode: SchemaNode = { type: 'string', pattern: '^\\d+(\\.\\d+)? ?(ms|s|min|h)$' };

/** Makes of a shape what may stand in a file; what is one of several is told by reference. */
function nodeOf(shape: z.ZodType): SchemaNode {
  const node = z.toJSONSchema(shape, {
    io: 'input',
    unrepresentable: 'any',
    override: ({ zodSchema, jsonSchema }) => {
      const of = alternatives.get(zodSchema as never);
      const whole = (reference: SchemaNode): void => {
        for (const key of Object.keys(jsonSchema)) delete (jsonSchema as Record<string, unknown>)[key];
        Object.assign(jsonSchema, reference);
      };
      if (of) whole({ $ref: `#/$defs/${of.name}` });
      else if ((zodSchema as unknown) === wayStep) whole({ $ref: '#/$defs/wayStep' });
    },
  }) as SchemaNode;
  delete node['$schema'];
  return node;
}

/** A list of words as long as this is told once, by reference. */
const longList = 40;

/** Puts its description to each key: that of the key where it stands, or else that of the key anywhere. */
function describe(node: SchemaNode, path: string): void {
  for (const [key, inner] of Object.entries(node.properties ?? {})) {
    const here = path === '' ? key : `${path}.${key}`;
    const text = words[here] ?? words[key];
    if ((inner.enum?.length ?? 0) > longList) node.properties![key] = { $ref: '#/$defs/cause' };
    if (text !== undefined) node.properties![key]!.description = text;
    describe(inner, here);
  }
  if (node.items) describe(node.items, path);
  if (typeof node.additionalProperties === 'object') describe(node.additionalProperties, path);
  for (const one of node.anyOf ?? []) describe(one, path);
}

/** JSON Schema (draft 2020-12) of a family file, by which an editor completes and explains what is written. */
export function familyJsonSchema(): SchemaNode {
  const top = nodeOf(familyShape);
  const inner: Record<string, SchemaNode> = { ...(top.$defs ?? {}) };
  const defs: Record<string, SchemaNode> = { cause: { enum: causes.map((c) => c.code) } };
  for (const { name, shapes } of alternatives.values()) {
    const anyOf = Object.entries(shapes).map(([key, shape]) => {
      const node = nodeOf(shape);
      Object.assign(inner, node.$defs);
      delete node.$defs;
      describe(node, `${name}.${key}`);
      return node;
    });
    defs[name] = { anyOf };
  }
  defs['wayStep'] = {
    type: 'object',
    minProperties: 1,
    additionalProperties: false,
    properties: {
      ...Object.fromEntries(Object.keys(proceduresOf).map((verb) => [verb, { ...spanNode }])),
      perMiB: { ...spanNode },
      restarts: { type: 'boolean' },
      words: { type: 'string' },
    },
  };
  describe(defs['wayStep'], 'wayStep');
  delete top.$defs;
  describe(top, '');
  // Every procedure has the same shape; it is written down once.
  const procedures = top.properties!['procedures']!.properties!;
  const [shape] = Object.values(procedures);
  defs['procedure'] = { ...shape };
  delete defs['procedure'].description;
  describe(defs['procedure'], 'procedure');
  for (const [key, { description }] of Object.entries(procedures))
    procedures[key] = { $ref: '#/$defs/procedure', ...(description === undefined ? {} : { description }) };
  return {
    $schema: 'https://json-schema.org/draft/2020-12/schema',
    title: 'A family file of Barrow',
    description: 'How devices of one family are recognised, how their versions read, and how they are upgraded.',
    ...top,
    $defs: { ...inner, ...defs },
  };
}
