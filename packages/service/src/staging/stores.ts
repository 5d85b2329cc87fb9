/** What a watch asks of a store that listens, or should. */
export interface ListeningStore {
  readonly hosts: readonly string[];
  readonly port: number;
  readonly state: { readonly listening: boolean; readonly fault: string | null };
}
