import { CauseError } from '@barrow/core';
import { asCause, type CarriedFile } from '@barrow/families';
import { contentDigest, SshPlace, uploadHttp, type HttpTarget, type SharedLink } from '@barrow/wire';
import type { Context } from '../context.js';
import { CredentialEntity } from '../data/entities.js';
import { httpAccess, sshTargetOf } from '../touch/access.js';
import type { Sites } from './sites.js';

/** Fills the store of a site with one file, unless it is there already, and reads its digest there. @throws CauseError */
export async function fillSiteStore(
  context: Context,
  sites: Sites,
  site: string,
  file: CarriedFile,
  use: { link: SharedLink | null; onSent: (octets: number) => void; signal: AbortSignal; onVerify: () => void },
): Promise<{ digest: string; wasThere: boolean; how: 'told' | 'read' }> {
  const { store } = sites.get(site);
  if (!store) throw new CauseError('upload-refused', `${site} has no store of its own; say where it is with \`barrow site set\``);
  const credential = store.credential === null ? null : await context.db.findOne(CredentialEntity, { name: store.credential });
  const url = new URL(store.fill);
  const path = `${url.pathname.replace(/\/$/, '')}/${file.name}`;
  const port = Number(url.port) || (url.protocol === 'sftp:' ? 22 : url.protocol === 'https:' ? 443 : 80);
  const host = url.hostname.replace(/^\[|\]$/g, '');
  try {
    if (url.protocol === 'sftp:') {
      if (!credential) throw new CauseError('no-credential', `the store of ${site} names no credential for SFTP`);
      const place = await SshPlace.open(sshTargetOf(context, credential, { host, port, hostKey: store.hostKey }));
      const abort = (): void => place.close();
      use.signal.addEventListener('abort', abort, { once: true });
      try {
        if (store.hostKey === null) await sites.pin(site, place.hostKey);
        const before = await place.digest(path);
        if (before?.sha256 === file.sha256) return { digest: before.sha256, wasThere: true, how: before.how };
        await place.put(file, path, use);
        use.onVerify();
        const after = await place.digest(path);
        if (!after) throw new CauseError('upload-refused', `${path} is not there after it was written`);
        return { digest: check(after.sha256, after.bytes, file, site), wasThere: false, how: after.how };
      } finally {
        use.signal.removeEventListener('abort', abort);
        place.close();
      }
    }
    const target: HttpTarget = {
      host,
      port,
      secure: url.protocol === 'https:',
      access: credential ? httpAccess(context, credential) : null,
      timeoutMs: 30_000,
      signal: use.signal,
    };
    const before = await contentDigest(target, path);
    if (before?.sha256 === file.sha256) return { digest: before.sha256, wasThere: true, how: before.how };
    const answer = await uploadHttp(target, { method: 'PUT', path, as: { how: 'body' }, file, link: use.link, onSent: use.onSent });
    if (answer.status < 200 || answer.status > 299)
      throw new CauseError('upload-refused', `the store of ${site} answered ${answer.status}: ${answer.body.trim().slice(0, 200)}`);
    use.onVerify();
    const after = await contentDigest(target, path);
    if (!after) throw new CauseError('upload-refused', `${path} cannot be read back`);
    return { digest: check(after.sha256, after.bytes, file, site), wasThere: false, how: after.how };
  } catch (error) {
    throw asCause(error);
  }
}

function check(sha256: string, bytes: number, file: CarriedFile, site: string): string {
  if (bytes !== file.bytes)
    throw new CauseError('wrong-size-taken', `the store of ${site} holds ${bytes} octets of ${file.name}, it has ${file.bytes}`);
  if (sha256 !== file.sha256) throw new CauseError('image-damaged', `in the store of ${site} its digest is ${sha256}`);
  return sha256;
}
