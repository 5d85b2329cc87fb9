import { z } from 'zod';

/**
 * The header of the demo fleet's open image format: the six octets `SIMG1\n`, the length of the header as an
 * unsigned 32-bit big-endian number, the header as UTF-8 JSON, then the payload.
 */
export const imageMagic = 'SIMG1\n';
/** No header may be longer; a larger length is damage or an attack. */
export const longestHeader = 65_536;

export const imageHeaderSchema = z.object({
  maker: z.string().min(1).max(80),
  models: z.array(z.string().min(1).max(80)).min(1).max(200),
  hardwareRevisions: z.array(z.string().min(1).max(40)).min(1).max(50),
  variant: z.string().max(40).default(''),
  version: z.string().min(1).max(80),
  /** What it replaces in the device; the system when absent. */
  component: z.enum(['system', 'boot-loader']).optional(),
  payloadBytes: z.number().int().nonnegative(),
  payloadSha256: z.string().regex(/^[0-9a-f]{64}$/),
});
export type ImageHeader = z.infer<typeof imageHeaderSchema>;

/** A file whose header cannot be believed; `code` tells truncated, foreign and malformed apart. */
export class ImageHeaderError extends Error {
  constructor(
    readonly code: 'image-foreign' | 'image-truncated' | 'image-malformed',
    message: string,
  ) {
    super(message);
  }
}

/**
 * Reads the header from the first octets of a file (at least `longestHeader` + 10 of them, or the whole file).
 * @throws ImageHeaderError
 */
export function readImageHeader(start: Uint8Array): { header: ImageHeader; payloadOffset: number } {
  const magic = String.fromCharCode(...start.subarray(0, imageMagic.length));
  if (magic !== imageMagic) throw new ImageHeaderError('image-foreign', 'the file does not begin with a header that Barrow can read');
  if (start.length < 10) throw new ImageHeaderError('image-truncated', 'the file ends inside its header');
  const length = new DataView(start.buffer, start.byteOffset, start.byteLength).getUint32(6);
  if (length > longestHeader)
    throw new ImageHeaderError('image-malformed', `the header claims ${length} octets; ${longestHeader} is the most`);
  if (start.length < 10 + length)
    throw new ImageHeaderError('image-truncated', `the header claims ${length} octets, the file has ${start.length - 10}`);
  let json: unknown;
  try {
    json = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(start.subarray(10, 10 + length)));
  } catch {
    throw new ImageHeaderError('image-malformed', 'the header is not valid JSON in UTF-8');
  }
  const parsed = imageHeaderSchema.safeParse(json);
  if (!parsed.success) {
    const first = parsed.error.issues[0];
    throw new ImageHeaderError('image-malformed', `the header's ${first?.path.join('.') || 'shape'}: ${first?.message ?? 'wrong'}`);
  }
  return { header: parsed.data, payloadOffset: 10 + length };
}
