declare module 'net-snmp' {
  export interface MibRequest {
    done(): void;
  }
  export interface Mib {
    setScalarValue(name: string, value: unknown): void;
    readonly providerNodes: Record<string, { children: object }>;
    getTableRowCells: (table: string, index: unknown[]) => unknown[] | null;
    addTableRow(table: string, row: unknown[]): void;
    setTableSingleCell(table: string, column: number, index: unknown[], value: unknown): void;
  }
  export interface Agent {
    readonly engine: object;
    registerProvider(provider: object): void;
    unregisterProvider(name: string): void;
    getMib(): Mib;
    getAuthorizer(): {
      addCommunity(community: string): void;
      addUser(user: object): void;
      getAccessControlModel(): {
        setCommunityAccess(community: string, level: number): void;
        setUserAccess(user: string, level: number): void;
      };
    };
    close(): void;
  }
  const snmp: {
    createAgent(options: object, callback: (error: unknown) => void): Agent;
    MibProviderType: { Scalar: number; Table: number };
    AccessControlModelType: { Simple: number };
    SecurityLevel: Record<string, number>;
    AuthProtocols: Record<string, number>;
    PrivProtocols: Record<string, number>;
    ObjectType: Record<string, number>;
    MaxAccess: Record<string, number>;
    AccessLevel: Record<string, number>;
  };
  export default snmp;
}
