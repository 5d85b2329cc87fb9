import { createHash } from 'node:crypto';
import { crc32 } from 'node:zlib';

/**
 * A legacy U-Boot image: 64 octets of header, then the data. Written apart from the service's reader, from the open
 * description of the format.
 */
export function ubootImage(name: string, data: Buffer): Buffer {
  const header = Buffer.alloc(64);
  header.writeUInt32BE(0x27051956, 0);
  header.writeUInt32BE(1_790_000_000, 8);
  header.writeUInt32BE(data.length, 12);
  header.writeUInt32BE(0x80008000, 16);
  header.writeUInt32BE(0x80008000, 20);
  header.writeUInt32BE(crc32(data), 24);
  // Linux, ARM, kernel, not compressed.
  header.set([5, 2, 2, 0], 28);
  header.write(name.slice(0, 31), 32, 'latin1');
  header.writeUInt32BE(crc32(header), 4);
  return Buffer.concat([header, data]);
}

/** A flattened image tree with one firmware node, its data behind the tree or inside of it. Source: Devicetree Specification 0.4 §5. */
export function fitImage(description: string, data: Buffer, where: 'behind' | 'inside' = 'behind'): Buffer {
  const strings: string[] = [];
  const offsetOf = (name: string): number => {
    let at = 0;
    for (const known of strings) {
      if (known === name) return at;
      at += known.length + 1;
    }
    strings.push(name);
    return at;
  };
  const words = (...values: number[]): Buffer => {
    const out = Buffer.alloc(values.length * 4);
    values.forEach((v, i) => out.writeUInt32BE(v, i * 4));
    return out;
  };
  const padded = (bytes: Buffer): Buffer => Buffer.concat([bytes, Buffer.alloc((4 - (bytes.length % 4)) % 4)]);
  const property = (name: string, value: Buffer): Buffer => Buffer.concat([words(3, value.length, offsetOf(name)), padded(value)]);
  const node = (name: string, ...inside: Buffer[]): Buffer =>
    Buffer.concat([words(1), padded(Buffer.from(`${name}\0`)), ...inside, words(2)]);
  const text = (value: string): Buffer => Buffer.from(`${value}\0`);
  // Behind the tree, the tree says where.
  const place =
    where === 'inside' ? [property('data', data)] : [property('data-offset', words(0)), property('data-size', words(data.length))];
  const tree = Buffer.concat([
    node(
      '',
      property('description', text(description)),
      property('timestamp', words(1_790_000_000)),
      node(
        'images',
        node(
          'firmware-1',
          property('type', text('firmware')),
          ...place,
          node('hash-1', property('algo', text('sha256')), property('value', createHash('sha256').update(data).digest())),
        ),
      ),
    ),
    words(9),
  ]);
  const names = padded(Buffer.from(strings.map((s) => `${s}\0`).join('')));
  const reservations = Buffer.alloc(16);
  const structAt = 40 + reservations.length;
  const stringsAt = structAt + tree.length;
  const header = words(0xd00dfeed, stringsAt + names.length, structAt, stringsAt, 40, 17, 16, 0, names.length, tree.length);
  // External data begins at a place that four divides; the blocks before it are all of such lengths.
  return Buffer.concat([header, reservations, tree, names, ...(where === 'inside' ? [] : [data])]);
}
