import { createHash } from 'node:crypto';

export interface ShelvedFile {
  readonly name: string;
  readonly bytes: number;
  readonly sha256: string;
  /** `running`: what it was started with; `staged`: brought lately; `old`: left behind, nobody needs it. */
  readonly use: 'running' | 'staged' | 'old';
  /** null: it was there before anybody came, and nothing is known of it but its name. */
  readonly content: Buffer | null;
}

/** Where a simulated device keeps files that it was given; it counts what truly happened to it. */
export class Shelf {
  readonly files: ShelvedFile[] = [];
  readonly counters = { taken: 0, removed: 0, broken: 0 };

  constructor(readonly capacity: number) {}

  get free(): number {
    return this.capacity - this.files.reduce((sum, f) => sum + f.bytes, 0);
  }

  /** Something that was there before anybody came. */
  hold(name: string, bytes: number, use: ShelvedFile['use']): void {
    this.files.push({ name, bytes, use, content: null, sha256: createHash('sha256').update(name).digest('hex') });
  }

  put(name: string, content: Buffer): ShelvedFile {
    const sha256 = createHash('sha256').update(content).digest('hex');
    const file: ShelvedFile = { name, bytes: content.length, sha256, use: 'staged', content };
    this.drop(name);
    this.files.push(file);
    this.counters.taken++;
    return file;
  }

  find(name: string): ShelvedFile | undefined {
    return this.files.find((f) => f.name === name);
  }

  /** Whether there was one to remove; what runs is never removed. */
  drop(name: string): boolean {
    const at = this.files.findIndex((f) => f.name === name && f.use !== 'running');
    if (at < 0) return false;
    this.files.splice(at, 1);
    return true;
  }

  /** One line for each file, for devices that tell so. */
  lines(): string[] {
    return this.files.map((f) => `${f.use} ${f.bytes} ${f.sha256} ${f.name}`);
  }
}
