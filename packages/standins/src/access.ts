/** Where the simulated devices answer, and what opens them. Made up, and good for nothing else. */
export const snmpPort = 16161;
export const sshPort = 2222;
export const httpPort = 8080;
export const httpsPort = 8443;
/** The ports that WS-Discovery 1.1 and RFC 3261 give. */
export const wsDiscoveryPort = 3702;
export const sipPort = 5060;
/** Where a camera's stream is; it tells. */
export const rtspPort = 5554;

export const community = 'ferry-read';
/** Who knows it may switch the power of ports. */
export const powerCommunity = 'ferry-lights';
export const login = { user: 'ferry', password: 'heron-at-low-tide' } as const;
/** As their makers deliver them. */
export const factoryLogin = { user: 'works', password: 'as-delivered' } as const;
/** The second word that a controller asks for before it tells more. */
export const raiseWord = 'spring-tide-only';
export const webLogin = { user: 'ferry', password: 'lantern-on-the-mole' } as const;
export const snmpUser = {
  name: 'ferry-watch',
  auth: 'sha256',
  authKey: 'ebb-and-flood-by-night',
  privKey: 'chart-of-the-channel',
} as const;

/** Where nobody listens. */
export const nowhere = { host: '127.40.0.254', port: 9 } as const;

/** Another address of a device, that nobody was told of. */
export const otherThan = (address: string): string => address.replace(/\d+$/, (last) => String(Number(last) + 100));

/** Vessels hang on a slow radio link: milliseconds that an answer of theirs takes, in the devices' time. */
export const linkDelayMs = (site: string, timeScale: number): number => (site === 'sandpiper' || site === 'curlew' ? 200 / timeScale : 0);
