declare module 'net-snmp' {
  export interface Varbind {
    oid: string;
    type: number;
    value: unknown;
  }
  export interface Session {
    get(oids: string[], callback: (error: unknown, varbinds: Varbind[]) => void): void;
    set(varbinds: Varbind[], callback: (error: unknown, varbinds: Varbind[]) => void): void;
    getBulk(oids: string[], nonRepeaters: number, maxRepetitions: number, callback: (error: unknown, varbinds: Varbind[][]) => void): void;
    on(event: 'error', listener: (error: unknown) => void): void;
    close(): void;
  }
  const snmp: {
    Version2c: number;
    ObjectType: Record<string, number>;
    SecurityLevel: Record<string, number>;
    AuthProtocols: Record<string, number>;
    PrivProtocols: Record<string, number>;
    createSession(target: string, community: string, options: object): Session;
    createV3Session(target: string, user: object, options: object): Session;
    isVarbindError(varbind: Varbind): boolean;
    varbindError(varbind: Varbind): string;
    RequestTimedOutError: new (...args: never[]) => Error;
  };
  export default snmp;
}
