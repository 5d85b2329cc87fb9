/** RFC 3261 §11.2: answers OPTIONS with 200 OK, saying what it is in User-Agent (a phone) or Server (a server). */
export function answerOptions(request: string, says: { readonly userAgent?: string; readonly server?: string }): string | null {
  const lines = request.split('\r\n');
  if (!lines[0]?.startsWith('OPTIONS sip:')) return null;
  const header = (name: string): string => lines.find((l) => l.toLowerCase().startsWith(`${name}:`)) ?? '';
  return [
    'SIP/2.0 200 OK',
    header('via'),
    header('from'),
    `${header('to')};tag=4711`,
    header('call-id'),
    header('cseq'),
    ...(says.userAgent ? [`User-Agent: ${says.userAgent}`] : []),
    ...(says.server ? [`Server: ${says.server}`] : []),
    'Allow: INVITE, ACK, CANCEL, OPTIONS, BYE, NOTIFY',
    'Content-Length: 0',
    '',
    '',
  ].join('\r\n');
}
