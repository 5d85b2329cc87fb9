declare module 'asn1-ber' {
  export class BerReader {
    constructor(data: Buffer);
    readonly remain: number;
    readonly length: number;
    offset: number;
    peek(): number | null;
    readSequence(tag?: number): number | null;
    readInt(tag?: number): number;
    readString(tag: number, asBuffer: true): Buffer;
    readOID(tag?: number): string;
    readByte(peek?: boolean): number | null;
  }
  export class BerWriter {
    constructor(options?: { size?: number });
    readonly buffer: Buffer;
    startSequence(tag?: number): void;
    endSequence(): void;
    writeInt(value: number, tag?: number): void;
    writeString(value: string, tag?: number): void;
    writeOID(value: string, tag?: number): void;
    writeNull(): void;
    writeBuffer(value: Buffer, tag: number): void;
  }
}
