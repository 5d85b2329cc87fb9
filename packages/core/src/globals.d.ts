/** The one global of the WHATWG Encoding standard that the core uses; every runtime of ours has it. */
declare class TextDecoder {
  constructor(label?: string, options?: { fatal?: boolean });
  decode(input: Uint8Array): string;
}
