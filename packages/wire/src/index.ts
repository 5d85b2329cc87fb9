export * from './errors.js';
export { needHost } from './need-host.js';
export {
  decodeRequest,
  encodeAck,
  encodeError,
  encodeOack,
  errorCodes,
  MalformedRequest,
  opcodes,
  type TftpRequest,
} from './tftp/packets.js';
export { negotiate, type Agreed } from './tftp/options.js';
export type { TransferEnd, TransferProgress } from './tftp/transfer.js';
export { putTftp, type TftpPut } from './tftp/put.js';
export { TftpServer, type Packets, type TftpAddress, type TftpAnswer, type TftpPeer, type TftpServerOptions } from './tftp/server.js';
export { ThreadedTftp, type ThreadedTftpOptions } from './tftp/threaded.js';
export { PacketTrace, type TracedPacket } from './tftp/trace.js';
export { ownMissed, ownNow, ownPause, ownTimeout, type OwnTimer } from './own-time.js';
export { Patience } from './snmp/patience.js';
export { Pacer, sharedLink, type SharedLink } from './pacer.js';
export { toNetascii } from './tftp/netascii.js';
export { SnmpClient, readable, type SnmpSetting, type SnmpTarget, type SnmpUser, type SnmpValue } from './snmp/client.js';
export { decodeEngineReport, decodeResponse, encodeEngineProbe, encodeGet, engineQuestion, snmpQuestion } from './snmp/messages.js';
export { sweep, type Question, type SweepAnswer, type SweepInput, type SweepResult } from './sweep/sweep.js';
export { tryConnects, type ConnectInput } from './tcp/connect.js';
export { sshGreeting, sshHostKey, type SshGreeting } from './ssh/greeting.js';
export { FileServer, throttle, type FileAnswer, type FileEnd, type FilePart, type FileRequest } from './http/file-server.js';
export { PageSession, type PageRequest } from './http/page-session.js';
export { uploadHttp, type HttpUpload, type PushedFile, type UploadAnswer } from './http/upload.js';
export { contentDigest, type ContentDigest } from './http/content-digest.js';
export { challenge, opens, type Guard } from './http/guard.js';
export {
  askHttp,
  titleOf,
  type HttpAccess,
  type HttpAnswer,
  type HttpCertificate,
  type HttpMethod,
  type HttpTarget,
} from './http/fetch.js';
export { digestField, signRequest, type SignedRequest } from './http/signature.js';
export { answerDigest, readChallenges, type Challenge } from './http/digest.js';
export { decodeProbeMatch, encodeProbe, probeQuestion, type ProbeMatch } from './onvif/discovery.js';
export {
  askOnvif,
  onvifClock,
  onvifDeviceService,
  onvifInformation,
  usernameToken,
  xmlEscape,
  type OnvifAsk,
  type OnvifInformation,
} from './onvif/device.js';
export { onvifStream } from './onvif/stream.js';
export { describeRtsp, type RtspDescription, type RtspTarget } from './rtsp/describe.js';
export { findXml, readXml, textOf, type XmlNode } from './onvif/xml.js';
export { askSip, type SipReply, type SipRequest, type SipTarget } from './sip/ask.js';
export { decodeOptions, encodeOptions, optionsQuestion, type SipAnswer } from './sip/options.js';
export { ShellSession, type ShellEntry } from './ssh/shell.js';
export type { ShellTarget } from './ssh/connect.js';
export { SshPlace } from './ssh/push.js';
