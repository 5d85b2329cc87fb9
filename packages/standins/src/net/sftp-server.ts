import ssh2, { type Session } from 'ssh2';
import type { Shelf } from '../shelf.js';

const { STATUS_CODE, OPEN_MODE } = ssh2.utils.sftp;

/** A device's SFTP door: files may be written beside their name, renamed into place, read, and removed. */
export function serveSftp(session: Session, shelf: Shelf, folder: string): void {
  session.on('sftp', (accept) => {
    const sftp = accept();
    const open = new Map<number, { name: string; content: Buffer; writing: boolean }>();
    const halves = halfWritten(shelf);
    let next = 1;
    const nameOf = (path: string): string | null =>
      path.startsWith(`${folder}/`) && !path.includes('..') ? path.slice(folder.length + 1) : null;
    const sizeOf = (name: string): number | null => halves.get(name)?.length ?? shelf.find(name)?.bytes ?? null;
    const attributes = (size: number) => ({ mode: 0o100644, uid: 0, gid: 0, size, atime: 0, mtime: 0 });
    sftp.on('error', () => undefined);
    sftp.on('OPEN', (id, path, flags) => {
      const name = nameOf(path);
      if (name === null) return sftp.status(id, STATUS_CODE.PERMISSION_DENIED, 'not in that folder');
      const writing = (flags & OPEN_MODE.WRITE) !== 0;
      if (!writing) return sftp.status(id, STATUS_CODE.PERMISSION_DENIED, 'nothing is read here');
      const content = (flags & OPEN_MODE.TRUNC) === 0 ? (halves.get(name) ?? Buffer.alloc(0)) : Buffer.alloc(0);
      const handle = Buffer.alloc(4);
      handle.writeUInt32BE(next);
      open.set(next++, { name, content, writing });
      sftp.handle(id, handle);
    });
    sftp.on('WRITE', (id, handle, offset, data) => {
      const file = open.get(handle.readUInt32BE(0));
      if (!file) return sftp.status(id, STATUS_CODE.FAILURE);
      const end = Number(offset) + data.length;
      if (end > shelf.free) return sftp.status(id, STATUS_CODE.FAILURE, 'no space left in the folder');
      if (end > file.content.length) file.content = Buffer.concat([file.content, Buffer.alloc(end - file.content.length)]);
      data.copy(file.content, Number(offset));
      halves.set(file.name, file.content);
      sftp.status(id, STATUS_CODE.OK);
    });
    const stat = (id: number, path: string): void => {
      const name = nameOf(path);
      const size = name === null ? null : sizeOf(name);
      if (size === null) sftp.status(id, STATUS_CODE.NO_SUCH_FILE);
      else sftp.attrs(id, attributes(size));
    };
    sftp.on('STAT', stat);
    sftp.on('LSTAT', stat);
    sftp.on('FSTAT', (id, handle) => {
      const file = open.get(handle.readUInt32BE(0));
      if (file) sftp.attrs(id, attributes(file.content.length));
      else sftp.status(id, STATUS_CODE.FAILURE);
    });
    sftp.on('FSETSTAT', (id) => sftp.status(id, STATUS_CODE.OK));
    sftp.on('SETSTAT', (id) => sftp.status(id, STATUS_CODE.OK));
    sftp.on('CLOSE', (id, handle) => {
      open.delete(handle.readUInt32BE(0));
      sftp.status(id, STATUS_CODE.OK);
    });
    sftp.on('RENAME', (id, from, to) => {
      const [a, b] = [nameOf(from), nameOf(to)];
      const content = a === null ? undefined : halves.get(a);
      if (b === null || content === undefined) return sftp.status(id, STATUS_CODE.NO_SUCH_FILE);
      halves.delete(a!);
      shelf.put(b, content);
      sftp.status(id, STATUS_CODE.OK);
    });
    sftp.on('REMOVE', (id, path) => {
      const name = nameOf(path);
      const gone = name !== null && (shelf.drop(name) || halves.delete(name));
      sftp.status(id, gone ? STATUS_CODE.OK : STATUS_CODE.NO_SUCH_FILE);
    });
    sftp.on('REALPATH', (id, path) => sftp.name(id, [{ filename: path, longname: path, attrs: attributes(0) }]));
  });
}

/** Files that are not in their place yet survive a broken session. */
const halves = new WeakMap<Shelf, Map<string, Buffer>>();
function halfWritten(shelf: Shelf): Map<string, Buffer> {
  let of = halves.get(shelf);
  if (!of) halves.set(shelf, (of = new Map()));
  return of;
}
