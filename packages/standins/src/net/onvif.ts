import { createHash } from 'node:crypto';
import type { PageAnswer } from './http-server.js';

export interface CameraFacts {
  readonly maker: string;
  readonly model: string;
  readonly firmware: string;
  readonly serial: string;
  readonly hardware: string;
  readonly mac: string;
  readonly name: string;
  readonly address: string;
  readonly httpPort: number;
  readonly rtspPort: number;
  readonly user: string;
  readonly password: string;
  /** How far its clock is from the true time, in milliseconds. */
  readonly clockOffsetMs: number;
  /** Whether it tells its clock to anybody, as the ONVIF core specification §8.1.2.7 asks. */
  readonly tellsClock: boolean;
}

const soap = (body: string): string =>
  `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema" xmlns:ter="http://www.onvif.org/ver10/error"><s:Body>${body}</s:Body></s:Envelope>`;
const xml = 'application/soap+xml; charset=utf-8';

const fault = (): PageAnswer => ({
  status: 400,
  type: xml,
  body: soap(
    '<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:NotAuthorized</s:Value></s:Subcode></s:Code><s:Reason><s:Text xml:lang="en">not authorized</s:Text></s:Reason></s:Fault>',
  ),
});

/** WS-UsernameToken profile 1.0: digest = Base64(SHA-1(nonce + created + password)), and a token that is not of now is refused. */
function authorised(body: string, facts: CameraFacts): boolean {
  const of = (tag: string): string => new RegExp(`<(?:\\w+:)?${tag}[^>]*>([^<]*)</`).exec(body)?.[1] ?? '';
  if (of('Username') !== facts.user) return false;
  const created = of('Created');
  const digest = createHash('sha1')
    .update(Buffer.from(of('Nonce'), 'base64'))
    .update(created)
    .update(facts.password)
    .digest('base64');
  return of('Password') === digest && Math.abs(Date.parse(created) - (Date.now() + facts.clockOffsetMs)) < 60_000;
}

/** Answers the device management service of an ONVIF camera. */
export function answerOnvif(body: string, facts: CameraFacts, onLogin: (accepted: boolean) => boolean): PageAnswer {
  if (body.includes('GetSystemDateAndTime') && facts.tellsClock) {
    const now = new Date(Date.now() + facts.clockOffsetMs);
    const [d, t] = [
      `<tt:Year>${now.getUTCFullYear()}</tt:Year><tt:Month>${now.getUTCMonth() + 1}</tt:Month><tt:Day>${now.getUTCDate()}</tt:Day>`,
      `<tt:Hour>${now.getUTCHours()}</tt:Hour><tt:Minute>${now.getUTCMinutes()}</tt:Minute><tt:Second>${now.getUTCSeconds()}</tt:Second>`,
    ];
    return {
      type: xml,
      body: soap(
        `<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:DateTimeType>Manual</tt:DateTimeType><tt:UTCDateTime><tt:Time>${t}</tt:Time><tt:Date>${d}</tt:Date></tt:UTCDateTime></tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>`,
      ),
    };
  }
  const asked = ['GetDeviceInformation', 'GetCapabilities', 'GetProfiles', 'GetStreamUri'].find((one) => body.includes(one));
  if (asked === undefined) return fault();
  if (!body.includes('UsernameToken') || !onLogin(authorised(body, facts))) return fault();
  const media: Record<string, string> = {
    GetCapabilities: `<tds:GetCapabilitiesResponse><tds:Capabilities><tt:Media><tt:XAddr>http://${facts.address}:${facts.httpPort}/onvif/media_service</tt:XAddr></tt:Media></tds:Capabilities></tds:GetCapabilitiesResponse>`,
    GetProfiles: `<trt:GetProfilesResponse xmlns:trt="http://www.onvif.org/ver10/media/wsdl"><trt:Profiles token="pier" fixed="true"><tt:Name>pier</tt:Name></trt:Profiles></trt:GetProfilesResponse>`,
    GetStreamUri: `<trt:GetStreamUriResponse xmlns:trt="http://www.onvif.org/ver10/media/wsdl"><trt:MediaUri><tt:Uri>rtsp://${facts.address}:${facts.rtspPort}/pier</tt:Uri></trt:MediaUri></trt:GetStreamUriResponse>`,
  };
  if (media[asked] !== undefined) return { status: 200, type: xml, body: soap(media[asked]) };
  return {
    type: xml,
    body: soap(
      `<tds:GetDeviceInformationResponse><tds:Manufacturer>${facts.maker}</tds:Manufacturer><tds:Model>${facts.model}</tds:Model><tds:FirmwareVersion>${facts.firmware}</tds:FirmwareVersion><tds:SerialNumber>${facts.serial}</tds:SerialNumber><tds:HardwareId>${facts.hardware}</tds:HardwareId></tds:GetDeviceInformationResponse>`,
    ),
  };
}

/** WS-Discovery 1.1 §5: a Probe is answered with a ProbeMatch that relates to it. */
export function answerProbe(probe: string, facts: CameraFacts): string | null {
  if (!probe.includes('Probe')) return null;
  const messageId = /<(?:\w+:)?MessageID[^>]*>([^<]+)</.exec(probe)?.[1] ?? '';
  const uuid = createHash('sha1').update(facts.serial).digest('hex');
  return `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope" xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><s:Header><a:RelatesTo>${messageId}</a:RelatesTo><a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/ProbeMatches</a:Action></s:Header><s:Body><d:ProbeMatches><d:ProbeMatch><a:EndpointReference><a:Address>urn:uuid:${uuid.slice(0, 8)}-${uuid.slice(8, 12)}-5${uuid.slice(13, 16)}-8${uuid.slice(17, 20)}-${uuid.slice(20, 32)}</a:Address></a:EndpointReference><d:Types>dn:NetworkVideoTransmitter</d:Types><d:Scopes>onvif://www.onvif.org/type/video_encoder onvif://www.onvif.org/hardware/${facts.model} onvif://www.onvif.org/name/${encodeURIComponent(facts.name)}</d:Scopes><d:XAddrs>http://${facts.address}:${facts.httpPort}/onvif/device_service</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch></d:ProbeMatches></s:Body></s:Envelope>`;
}
