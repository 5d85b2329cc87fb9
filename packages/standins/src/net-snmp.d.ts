declare module 'net-snmp' {
  export interface MibRequest {
    done(): void;
  }
  export interface Mib {
    setScalarValue(name: string, value: unknown): void;
    addTableRow(table: string, row: unknown[]): void;
  }
  export interface Agent {
    registerProvider(provider: object): void;
    getMib(): Mib;
    getAuthorizer(): { addCommunity(community: string): void };
    close(): void;
  }
  const snmp: {
    createAgent(options: object, callback: (error: unknown) => void): Agent;
    MibProviderType: { Scalar: number; Table: number };
    ObjectType: Record<string, number>;
    MaxAccess: Record<string, number>;
  };
  export default snmp;
}
