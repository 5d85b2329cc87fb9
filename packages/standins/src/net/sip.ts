export interface SipSays {
  readonly userAgent?: string;
  readonly server?: string;
  /** The hardware address in its instance (RFC 5626 §4.1). */
  readonly mac?: string;
  /** It is in a call: it answers as it would a caller. */
  readonly busy?: boolean;
  /** It is registered nowhere: nobody can call it (RFC 3261 §21.4.18). */
  readonly unregistered?: boolean;
  /** What it makes of a MESSAGE (RFC 3428); absent: it takes none. Answers the status line. */
  readonly heard?: (text: string) => string;
}

/** RFC 3261 §11.2: answers OPTIONS with 200 OK, saying what it is in User-Agent (a phone) or Server (a server), and a MESSAGE. */
export function answerSip(request: string, says: SipSays): string | null {
  const lines = request.split('\r\n');
  const method = /^(OPTIONS|MESSAGE) sip:/.exec(lines[0] ?? '')?.[1];
  if (method === undefined) return null;
  const status = says.busy
    ? 'SIP/2.0 486 Busy Here'
    : method === 'OPTIONS'
      ? says.unregistered
        ? 'SIP/2.0 480 Temporarily Unavailable'
        : 'SIP/2.0 200 OK'
      : says.heard
        ? says.heard(request.slice(request.indexOf('\r\n\r\n') + 4).trim())
        : 'SIP/2.0 405 Method Not Allowed';
  const header = (name: string): string => lines.find((l) => l.toLowerCase().startsWith(`${name}:`)) ?? '';
  return [
    status,
    header('via'),
    header('from'),
    `${header('to')};tag=4711`,
    header('call-id'),
    header('cseq'),
    ...(says.userAgent ? [`User-Agent: ${says.userAgent}`] : []),
    ...(says.server ? [`Server: ${says.server}`] : []),
    ...(says.mac
      ? [`Contact: <sip:phone@phone.invalid>;+sip.instance="<urn:uuid:00000000-0000-1000-8000-${says.mac.replaceAll(':', '')}>"`]
      : []),
    'Allow: INVITE, ACK, CANCEL, OPTIONS, BYE, NOTIFY',
    'Content-Length: 0',
    '',
    '',
  ].join('\r\n');
}
