/** The first file of a multipart/form-data body (RFC 7578), as a small web server of a device takes it; null when it is none. */
export function fileInForm(type: string, body: Buffer): { field: string; name: string; content: Buffer } | null {
  const boundary = /boundary=("?)([^";]+)\1/.exec(type)?.[2];
  if (!boundary) return null;
  const open = body.indexOf(`--${boundary}\r\n`);
  const head = body.indexOf('\r\n\r\n', open);
  const end = body.indexOf(`\r\n--${boundary}`, head);
  if (open < 0 || head < 0 || end < 0) return null;
  const heading = body.toString('latin1', open, head);
  const field = /name="([^"]*)"/.exec(heading)?.[1];
  const name = /filename="([^"]*)"/.exec(heading)?.[1];
  return field && name ? { field, name, content: body.subarray(head + 4, end) } : null;
}
