export * from './errors.js';
export { decodeRequest, encodeError, encodeOack, errorCodes, MalformedRequest, opcodes, type ReadRequest } from './tftp/packets.js';
export { negotiate, type Agreed } from './tftp/options.js';
export type { TransferEnd, TransferProgress } from './tftp/transfer.js';
export { TftpServer, type TftpAnswer, type TftpPeer, type TftpServerOptions } from './tftp/server.js';
export { SnmpClient, readable, type SnmpTarget, type SnmpValue } from './snmp/client.js';
export { decodeResponse, encodeGet, sweep, type SweepAnswer, type SweepInput, type SweepResult } from './snmp/sweep.js';
export { ShellSession, type ShellEntry, type ShellTarget } from './ssh/shell.js';
