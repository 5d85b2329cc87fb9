import { givenValues } from './sense.js';
import type { SchemaNode } from './json-schema.js';

/** What may stand there, in a few words. */
function kindOf(node: SchemaNode): string {
  if (node.$ref) return `a ${node.$ref.split('/').at(-1)!.replace('wayStep', 'step of a way').replace('snmp', 'request')}`;
  if (node.enum) return node.enum.map((v) => `\`${String(v)}\``).join(', ');
  if (node.const !== undefined) return `\`${String(node.const)}\``;
  if (node.anyOf) return node.anyOf.map(kindOf).join(', or ');
  if (node.type === 'array') return node.items ? `a list: ${kindOf(node.items)}` : 'a list';
  if (node.type === 'object')
    return typeof node.additionalProperties === 'object' ? `names, each with ${kindOf(node.additionalProperties)}` : 'keys';
  if (node.pattern?.includes('(ms|s|min|h)')) return 'a span, e.g. `90 s`';
  if (node.type === 'string') return 'text';
  if (node.type === 'boolean') return 'yes or no';
  if (node.type === 'integer' || node.type === 'number') return 'a number';
  return 'text';
}

/** The keys below a node, with what they mean; those inside of others stand below them. */
function rows(node: SchemaNode, indent = ''): string[] {
  const required = new Set(node.required ?? []);
  return Object.entries(node.properties ?? {}).flatMap(([key, one]) => {
    const otherwise =
      one.default === undefined || typeof one.default === 'object' || one.default === ''
        ? ''
        : `; \`${String(one.default)}\` when it is not said`;
    const line = `${indent}- **\`${key}\`**${required.has(key) ? ' (needed)' : ''}: ${one.description ?? ''} *${kindOf(one)}${otherwise}*`;
    const inside = one.properties ? one : one.items?.properties ? one.items : null;
    const several = (one.anyOf ?? one.items?.anyOf ?? []).filter((a) => a.properties);
    return [line, ...(inside ? rows(inside, `${indent}  `) : []), ...several.flatMap((a) => rows(a, `${indent}  `))];
  });
}

/** All that a family file may say, in words: made from its schema, so that it says what is checked. */
/** Meaning of each value that Barrow gives. */
export const givenWords: Readonly<Record<string, string>> = {
  deviceName: 'name of the device',
  deviceMac: 'MAC of the device',
  deviceSerial: 'serial of the device',
  pageUser: 'user name for a page with a form, from a credential of the kind `http-basic`; encoded in a form',
  pageWord: 'password for a page with a form; encoded in a form, and hidden in every record',
  fileName: 'in `upload` and `eachFile`: name of the file',
  fileBytes: 'in `upload` and `eachFile`: size in bytes',
  fileSha256: 'in `upload` and `eachFile`: SHA-256',
  receiveName: 'in `receive`: the name under which the device must send its file',
  imageFile: 'name under which the image is offered or stored',
  imageBytes: 'size of the image in bytes',
  imageSha256: 'SHA-256 of the image',
  imageVersion: 'version of the image',
  storeAddress: 'address of the store, as the device sees it',
  storePort: 'port of the store',
  storeUrl: 'whole address of the image in the HTTP store',
  storeUser: 'user name at the HTTP store, where `asks: login` demands one',
  storePassword: 'password at the HTTP store',
  seconds: 'how long to blink',
  removeFile: 'name of the image to remove',
  backTo: 'version or slot to go back to',
  lostStep: 'step whose end is not known',
  settings: 'saved settings',
  outlet: 'label of the outlet or port',
  outletNumber: 'last number in that label',
  line: 'label of the console line',
  lineNumber: 'last number in that label',
  consoleUser: 'user name at the console',
  consoleWord: 'password at the console',
  address: 'address that the device must have again',
};

export function referenceOf(schema: SchemaNode): string {
  const defs = schema.$defs!;
  const oneOf = (title: string, words: string, node: SchemaNode): string[] => [
    `### ${title}`,
    '',
    words,
    '',
    ...(node.anyOf ?? [node]).flatMap((one, i) => [...(i > 0 && (node.anyOf?.length ?? 0) > 4 ? [''] : []), ...rows(one)]),
    '',
  ];
  const { procedures, ...top } = schema.properties!;
  return [
    'Made from the schema that `barrow family check` goes by. Patterns are in RE2 syntax; spans are a number and `ms`, `s`, `min` or `h`; in what is typed, asked or compared, `${name}` stands for a value, and `${name|text}` for a value or else this text.',
    '',
    '### The file',
    '',
    ...rows({ properties: top, required: schema.required ?? [] }),
    '',
    '### Procedures',
    '',
    procedures!.description!,
    '',
    ...rows({ properties: procedures!.properties ?? {} }),
    '',
    ...oneOf('A procedure', 'Each procedure has these keys.', defs['procedure']!),
    ...oneOf('A step', 'What a step does, its first key says. Each kind, with what else it may have:', defs['step']!),
    ...oneOf('What an `snmp` step asks', 'Exactly one of these.', defs['snmp']!),
    '### Values that Barrow gives',
    '',
    'A procedure writes them as `${name}`.',
    '',
    '| value | meaning | procedures |',
    '|---|---|---|',
    ...[...givenValues()].map(([name, procedures]) => `| \`${name}\` | ${givenWords[name] ?? ''} | ${procedures?.join(', ') ?? 'all'} |`),
    '',
    ...oneOf('A condition', 'A comparison, or one of the others.', defs['condition']!),
    ...oneOf('A step of a way', 'One verb, with how long it usually takes; what Barrow has seen it take counts more.', defs['wayStep']!),
  ].join('\n');
}
