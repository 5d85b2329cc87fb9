import { createCipheriv, createHash } from 'node:crypto';
import { crc32 } from 'node:zlib';
import { imageMagic, type ImageHeader } from '@barrow/core';

export interface ImageRecipe {
  readonly maker: string;
  readonly models: readonly string[];
  readonly hardwareRevisions: readonly string[];
  readonly variant?: string;
  readonly version: string;
  readonly component?: 'system' | 'boot-loader';
  /** Tells files of one release apart. */
  readonly part?: string;
  readonly payloadBytes: number;
  /** What it does to a device, as its note says. */
  readonly effects?: ImageEffects;
}

/** What an image takes away from a device that starts it. */
export interface ImageEffects {
  readonly resets: readonly { readonly what: string; /** Only coming from a version below. */ readonly below?: string }[];
  readonly removes: readonly string[];
}

const sha256 = (bytes: Buffer): string => createHash('sha256').update(bytes).digest('hex');

/** Content that is like no other: the stream of a cipher, so that no stretch of it repeats and a swapped block is seen. */
export function payloadOf(recipe: ImageRecipe): Buffer {
  const key = createHash('sha256')
    .update(`${recipe.maker}/${recipe.models.join()}/${recipe.version}${recipe.part ?? ''}`)
    .digest();
  return createCipheriv('aes-256-ctr', key, Buffer.alloc(16)).update(Buffer.alloc(recipe.payloadBytes));
}

/** Makes an image file of the demo fleet's open format; the same recipe always gives the same bytes. */
export function makeImage(recipe: ImageRecipe): Buffer {
  const payload = payloadOf(recipe);
  const header: ImageHeader = {
    maker: recipe.maker,
    models: [...recipe.models],
    hardwareRevisions: [...recipe.hardwareRevisions],
    variant: recipe.variant ?? '',
    version: recipe.version,
    ...(recipe.component ? { component: recipe.component } : {}),
    payloadBytes: payload.length,
    payloadSha256: sha256(payload),
  };
  const json = Buffer.from(JSON.stringify(recipe.effects ? { ...header, effects: recipe.effects } : header));
  const start = Buffer.alloc(10);
  start.write(imageMagic, 'latin1');
  start.writeUInt32BE(json.length, 6);
  return Buffer.concat([start, json, payload]);
}

/** What a device finds in a file that it pulled; `fault` is said in the device's own words. */
export type Inspection =
  | {
      readonly fault: null;
      readonly version: string;
      readonly models: readonly string[];
      readonly revisions: readonly string[];
      readonly variant: string;
      readonly component: string;
      readonly effects?: ImageEffects | undefined;
    }
  | { readonly fault: string };

/** A device's own look at a file: its structure and digest. It shares no code with the service's reader. */
export function inspectImage(file: Buffer): Inspection {
  if (file.length < 10 || file.subarray(0, 6).toString('latin1') !== 'SIMG1\n') return { fault: 'not an image' };
  const length = file.readUInt32BE(6);
  if (length > 65_536 || 10 + length > file.length) return { fault: 'damaged header' };
  try {
    const header = JSON.parse(file.toString('utf8', 10, 10 + length)) as ImageHeader & { effects?: ImageEffects };
    const payload = file.subarray(10 + length);
    if (payload.length !== header.payloadBytes) return { fault: `damaged, ${payload.length} of ${header.payloadBytes} octets` };
    if (sha256(payload) !== header.payloadSha256) return { fault: 'damaged, digest differs' };
    const { version, models, hardwareRevisions: revisions, variant, component = 'system' } = header;
    return { fault: null, version, models, revisions, variant, component, ...(header.effects ? { effects: header.effects } : {}) };
  } catch {
    return { fault: 'damaged header' };
  }
}

/**
 * A power strip's own look at a legacy U-Boot image: its magic, the CRC-32 of its data, and what stands in its name. It shares no
 * code with the service's reader.
 */
export function inspectUboot(file: Buffer): Inspection {
  if (file.length < 64 || file.readUInt32BE(0) !== 0x27051956) return { fault: 'not an image' };
  const data = file.subarray(64);
  if (file.readUInt32BE(12) !== data.length || crc32(data) !== file.readUInt32BE(24)) return { fault: 'damaged' };
  const [, model, revision, version] = /^(\S+) rev (\S+) ([0-9.]+)/.exec(file.toString('latin1', 32, 64).replace(/\0+$/, '')) ?? [];
  if (!model || !revision || !version) return { fault: 'damaged header' };
  return { fault: null, version, models: [model], revisions: [revision], variant: '', component: 'system' };
}

export { sha256 };
