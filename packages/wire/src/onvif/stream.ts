import type { HttpTarget } from '../http/fetch.js';
import { askOnvif, onvifDeviceService, xmlEscape } from './device.js';
import { findXml, textOf } from './xml.js';

/** ONVIF media service specification §5. */
const mediaNamespace = 'http://www.onvif.org/ver10/media/wsdl';

/**
 * Where the stream of the first profile is: GetCapabilities of the device service, GetProfiles and GetStreamUri of the media service
 * (ONVIF media service specification §5.2.4, §5.15.1).
 *
 * @param clockOffsetMs how far the camera's clock is ahead of ours
 * @returns null where it has no media service, no profile, or tells no address
 * @throws WireError as `askOnvif`
 */
export async function onvifStream(
  target: HttpTarget,
  login: { user: string; password: string } | null,
  clockOffsetMs: number,
): Promise<string | null> {
  const ask = (operation: string, body: string, path: string, namespace: string) =>
    askOnvif(target, { operation, path, namespace, body }, login, clockOffsetMs);
  const capabilities = await ask(
    'GetCapabilities',
    '<tds:Category>Media</tds:Category>',
    onvifDeviceService.path,
    onvifDeviceService.namespace,
  );
  const service = textOf(findXml(capabilities.answer, 'Media'), 'XAddr');
  if (service === null || !URL.canParse(service)) return null;
  // The path alone: the address is the one by which it is reached, whatever it believes its own to be.
  const { pathname } = new URL(service);
  const profiles = await ask('GetProfiles', '', pathname, mediaNamespace);
  // The token is an attribute, of which nothing else is read.
  const token = /<(?:[\w-]+:)?Profiles\s[^>]*?\btoken="([^"<>]{1,64})"/.exec(profiles.text)?.[1];
  if (token === undefined) return null;
  const setup = '<tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport>';
  const { answer } = await ask(
    'GetStreamUri',
    `<tds:StreamSetup xmlns:tt="http://www.onvif.org/ver10/schema">${setup}</tds:StreamSetup><tds:ProfileToken>${xmlEscape(token)}</tds:ProfileToken>`,
    pathname,
    mediaNamespace,
  );
  return textOf(answer, 'Uri');
}
