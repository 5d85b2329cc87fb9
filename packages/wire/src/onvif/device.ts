import { createHash, randomBytes } from 'node:crypto';
import { WireError } from '../errors.js';
import { askHttp, type HttpTarget } from '../http/fetch.js';
import { findXml, readXml, textOf, type XmlNode } from './xml.js';

export interface OnvifInformation {
  readonly manufacturer: string | null;
  readonly model: string | null;
  readonly firmware: string | null;
  readonly serial: string | null;
  readonly hardware: string | null;
}

/** Where the device management service is, and its namespace (ONVIF core specification §5.3). */
export const onvifDeviceService = { path: '/onvif/device_service', namespace: 'http://www.onvif.org/ver10/device/wsdl' } as const;
const service = onvifDeviceService.path;
const envelope = (header: string, body: string, namespace: string): string =>
  `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header>${header}</s:Header><s:Body xmlns:tds="${xmlEscape(namespace)}">${body}</s:Body></s:Envelope>`;
/** A text as it may stand in an element or an attribute. */
export const xmlEscape = (text: string): string => text.replace(/[<>&"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** WS-Security UsernameToken profile 1.0 §3.1: Password_Digest = Base64(SHA-1(nonce + created + password)). */
export function usernameToken(user: string, password: string, at: number, nonce = randomBytes(16)): string {
  const created = new Date(at).toISOString();
  const digest = createHash('sha1').update(nonce).update(created).update(password).digest('base64');
  return `<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"><w:UsernameToken><w:Username>${xmlEscape(user)}</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">${digest}</w:Password><w:Nonce EncodingType="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary">${nonce.toString('base64')}</w:Nonce><u:Created>${created}</u:Created></w:UsernameToken></w:Security>`;
}

async function call(
  target: HttpTarget,
  header: string,
  body: string,
  { path, namespace }: { readonly path: string; readonly namespace: string } = onvifDeviceService,
): Promise<{ xml: XmlNode | null; text: string; status: number }> {
  const answer = await askHttp(target, path, {
    method: 'POST',
    body: envelope(header, body, namespace),
    type: 'application/soap+xml; charset=utf-8',
  });
  return { xml: readXml(answer.body), text: answer.body, status: answer.status };
}

/** Whether an answer refuses the one who asks (ONVIF core specification §5.11.2.2, HTTP 401). */
const refusesLogin = (status: number, xml: XmlNode | null): boolean =>
  status === 401 || /NotAuthorized|not authorized|unauthorized/i.test(JSON.stringify(xml ?? ''));
const faultOf = (xml: XmlNode | null): string | null => textOf(findXml(xml, 'Fault'), 'Text') ?? textOf(findXml(xml, 'Fault'), 'Value');

/** One operation of a service: its name, where the service is and its namespace, and what stands in the element of the operation. */
export interface OnvifAsk {
  readonly operation: string;
  readonly path: string;
  readonly namespace: string;
  readonly body: string;
}

/**
 * Asks for one operation of an ONVIF service (SOAP 1.2), with a UsernameToken of the camera's own time.
 *
 * @param clockOffsetMs how far the camera's clock is ahead of ours
 * @returns the answer as it came, its element `<operation>Response`, and the words of a fault
 * @throws WireError `login-refused`; `malformed` for what is no SOAP answer
 */
export async function askOnvif(
  target: HttpTarget,
  { operation, path, namespace, body }: OnvifAsk,
  login: { user: string; password: string } | null,
  clockOffsetMs: number,
): Promise<{ readonly answer: XmlNode | null; readonly fault: string | null; readonly text: string }> {
  const header = login === null ? '' : usernameToken(login.user, login.password, Date.now() + clockOffsetMs);
  const { xml, text, status } = await call(target, header, `<tds:${operation}>${body}</tds:${operation}>`, { path, namespace });
  const answer = findXml(xml, `${operation}Response`);
  if (answer !== null) return { answer, fault: null, text };
  const at = `${target.host}:${target.port}${path}`;
  if (refusesLogin(status, xml))
    throw new WireError('login-refused', `${at} refused ${login === null ? 'a request without login' : `user ${login.user}`}`);
  const fault = faultOf(xml);
  if (fault === null) throw new WireError('malformed', `${at} answered ${status} without ${operation}Response`);
  return { answer, fault, text };
}

/** GetSystemDateAndTime of the ONVIF core specification §8.1.2, which needs no login; null when it is not told. */
export async function onvifClock(target: HttpTarget): Promise<number | null> {
  const { xml } = await call(target, '', '<tds:GetSystemDateAndTime/>');
  const utc = findXml(xml, 'UTCDateTime');
  const part = (name: string): number => Number(textOf(utc, name) ?? 'x');
  const at = Date.UTC(part('Year'), part('Month') - 1, part('Day'), part('Hour'), part('Minute'), part('Second'));
  return utc === null || Number.isNaN(at) ? null : at;
}

/** A camera's clock that is further off than this is worth a word: a login depends on it. */
const clockToleranceMs = 5000;

/**
 * GetDeviceInformation of the ONVIF core specification §8.1.2, with a UsernameToken in the camera's own time.
 * @throws WireError `login-refused`; `clock-wrong` when the login was refused and the clock cannot be the right one.
 */
export async function onvifInformation(
  target: HttpTarget,
  login: { user: string; password: string } | null,
): Promise<{ information: OnvifInformation; clockOffsetMs: number | null }> {
  const told = await onvifClock(target);
  const clockOffsetMs = told === null ? null : told - Date.now();
  // A token that is not of the camera's now is refused, however right the password is.
  const off = clockOffsetMs !== null && Math.abs(clockOffsetMs) > clockToleranceMs ? clockOffsetMs : 0;
  const header = login === null ? '' : usernameToken(login.user, login.password, Date.now() + off);
  const { xml, status } = await call(target, header, '<tds:GetDeviceInformation/>');
  const found = findXml(xml, 'GetDeviceInformationResponse');
  const at = `${target.host}:${target.port}${service}`;
  if (found === null) {
    const fault = faultOf(xml);
    if (refusesLogin(status, xml)) {
      if (login !== null && clockOffsetMs === null)
        throw new WireError('clock-wrong', `${at} refuses the login and does not tell its clock, on which a login depends`);
      throw new WireError('login-refused', `${at} refused ${login === null ? 'a request without login' : `user ${login.user}`}`);
    }
    throw new WireError('malformed', `${at} answered ${status}${fault === null ? ' without device information' : `: ${fault}`}`);
  }
  return {
    information: {
      manufacturer: textOf(found, 'Manufacturer'),
      model: textOf(found, 'Model'),
      firmware: textOf(found, 'FirmwareVersion'),
      serial: textOf(found, 'SerialNumber'),
      hardware: textOf(found, 'HardwareId'),
    },
    clockOffsetMs,
  };
}
