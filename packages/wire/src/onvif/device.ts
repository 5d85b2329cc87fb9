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

const service = '/onvif/device_service';
const envelope = (header: string, body: string): string =>
  `<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header>${header}</s:Header><s:Body xmlns:tds="http://www.onvif.org/ver10/device/wsdl">${body}</s:Body></s:Envelope>`;
const escape = (text: string): string => text.replace(/[<>&"']/g, (c) => `&#${c.charCodeAt(0)};`);

/** WS-Security UsernameToken profile 1.0 §3.1: Password_Digest = Base64(SHA-1(nonce + created + password)). */
export function usernameToken(user: string, password: string, at: number, nonce = randomBytes(16)): string {
  const created = new Date(at).toISOString();
  const digest = createHash('sha1').update(nonce).update(created).update(password).digest('base64');
  return `<w:Security xmlns:w="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"><w:UsernameToken><w:Username>${escape(user)}</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">${digest}</w:Password><w:Nonce EncodingType="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary">${nonce.toString('base64')}</w:Nonce><u:Created>${created}</u:Created></w:UsernameToken></w:Security>`;
}

async function call(
  target: HttpTarget,
  header: string,
  body: string,
): Promise<{ xml: XmlNode | null; status: number; date: number | null }> {
  const answer = await askHttp(target, service, {
    method: 'POST',
    body: envelope(header, body),
    type: 'application/soap+xml; charset=utf-8',
  });
  const date = Date.parse(answer.headers['date'] ?? '');
  return { xml: readXml(answer.body), status: answer.status, date: Number.isNaN(date) ? null : date };
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
    const fault = textOf(findXml(xml, 'Fault'), 'Text') ?? textOf(xml, 'Value');
    if (status === 401 || /NotAuthorized|not authorized|unauthorized/i.test(JSON.stringify(xml ?? ''))) {
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
