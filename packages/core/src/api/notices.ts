import { z } from 'zod';
import { occasionKinds, usualKinds } from '../notices/occasions.js';
import { closedObject } from '../text/closed.js';
import { moment, nameText } from './common.js';

const webAddress = z.url({ protocol: /^https?$/, error: 'an address that begins with http:// or https://' }).max(500);
const mailAddress = z.email({ error: 'a mail address, such as night@example.net' }).max(254);
const name = nameText(60);

/** Who is told, and of what: by mail, or by a signed request to an address. */
export const receiverInput = closedObject({
  name,
  kind: z.enum(['mail', 'hook']),
  /** A mail address, or an address that begins with http. */
  to: z.string().min(1).max(500),
  on: z
    .array(z.enum(occasionKinds))
    .min(1)
    .default([...usualKinds]),
  /** The key with which a request is signed; made anew, and shown once, when there is none. */
  secret: z.string().min(16).max(200).nullable().default(null),
}).superRefine((r, context) => {
  const parsed = (r.kind === 'mail' ? mailAddress : webAddress).safeParse(r.to);
  if (!parsed.success) context.addIssue({ code: 'custom', path: ['to'], message: parsed.error.issues[0]!.message });
});
export type ReceiverInput = z.input<typeof receiverInput>;
export const receiverSchema = z.object({
  id: z.string(),
  name: z.string(),
  kind: z.enum(['mail', 'hook']),
  to: z.string(),
  on: z.array(z.enum(occasionKinds)),
  /** When something reached it last. */
  lastAt: moment.nullable(),
  /** Why the last message did not reach it; null: it did, or there was none. */
  trouble: z.string().nullable(),
  /** Messages that wait for it. */
  waiting: z.number().int(),
});
export type ReceiverView = z.infer<typeof receiverSchema>;

/** The server through which mail goes out (RFC 5321). `tls`: from the first octet (RFC 8314), by STARTTLS (RFC 3207), or none. */
export const mailServerInput = closedObject({
  host: z.string().min(1).max(255),
  port: z.number().int().min(1).max(65535).default(587),
  tls: z.enum(['implicit', 'starttls', 'none']).default('starttls'),
  from: mailAddress,
  user: z.string().max(200).nullable().default(null),
  secret: z.string().max(500).nullable().default(null),
});
export type MailServerInput = z.input<typeof mailServerInput>;

/** An address that is called again and again while a rollout is under way, so that its silence tells of a Barrow that died. */
export const heartbeatInput = closedObject({ url: webAddress.nullable(), everySeconds: z.number().int().min(10).max(3600).default(60) });
/** Under which address people reach the console, for links. */
export const noticeAddressInput = closedObject({ url: webAddress.nullable() });

export const noticesSchema = z.object({
  receivers: z.array(receiverSchema),
  mailServer: z
    .object({ host: z.string(), port: z.number().int(), tls: z.string(), from: z.string(), user: z.string().nullable() })
    .nullable(),
  heartbeat: z
    .object({ url: z.string(), everySeconds: z.number().int(), lastAt: moment.nullable(), trouble: z.string().nullable() })
    .nullable(),
  address: z.string(),
});
export type NoticesView = z.infer<typeof noticesSchema>;
