/** A fault of a device in a rollout, and the cause that has to be told of it first. The tests try each; the docs list them. */
export interface RolloutFault {
  readonly device: string;
  readonly fault: string;
  readonly cause: string;
  /** What happens, in words. */
  readonly what: string;
}

/** While it is looked at, takes its image, or restarts. */
export const upgradeFaults = [
  { device: 'quay-sw-1', fault: 'wrong-model', cause: 'wrong-hardware', what: 'the image is for another model than the device truly is' },
  { device: 'quay-sw-2', fault: 'damaged-in-transit', cause: 'image-damaged', what: 'one octet arrives changed' },
  { device: 'quay-sw-3', fault: 'no-space', cause: 'no-space', what: 'its flash is full' },
  { device: 'quay-sw-4', fault: 'refuses-login', cause: 'login-refused', what: 'the password is another one' },
  { device: 'eelgate-sw-1', fault: 'never-returns', cause: 'never-returned', what: 'it does not come back after its restart' },
  { device: 'eelgate-sw-2', fault: 'returns-on-old-version', cause: 'old-version', what: 'it comes back on what it ran before' },
  { device: 'gannet-sw-1', fault: 'returns-with-settings-lost', cause: 'settings-changed', what: 'it comes back without its settings' },
  { device: 'gannet-sw-2', fault: 'reboots-during-write', cause: 'rebooted-in-write', what: 'its power fails while its flash is written' },
  { device: 'dunmoor-sw-1', fault: 'never-asks', cause: 'never-asked', what: 'it is told to fetch, and does not' },
  { device: 'quay-rt-1', fault: 'damaged-in-transit', cause: 'image-damaged', what: 'the same of a router with one flash' },
  { device: 'dunmoor-rt-1', fault: 'wrong-model', cause: 'wrong-hardware', what: 'the same of a router with one flash' },
  { device: 'more-sw-1', fault: 'hangs-at-restart', cause: 'never-returned', what: 'it hangs at its restart' },
  { device: 'more-sw-2', fault: 'refuses-file', cause: 'image-refused', what: 'it takes all octets and wants none of them' },
  { device: 'more-sw-3', fault: 'cuts-file', cause: 'wrong-size-taken', what: 'it keeps less than it took' },
  { device: 'more-sw-4', fault: 'returns-with-other-key', cause: 'host-key-changed', what: 'it shows another host key after its restart' },
  { device: 'more-sw-5', fault: 'returns-as-delivered', cause: 'login-lost', what: 'it comes back as from the works, its login with it' },
  { device: 'more-sw-6', fault: 'goes-dark', cause: 'went-silent', what: 'it goes dark while it takes the image' },
  {
    device: 'more-sw-7',
    fault: 'drops-settings-on-new',
    cause: 'settings-changed',
    what: 'the new version does not read two lines of its settings',
  },
  { device: 'more-sw-8', fault: 'adds-settings-on-new', cause: 'settings-changed', what: 'the new version brings lines of its own' },
] as const satisfies readonly RolloutFault[];

/** What the new version takes away, though the device runs it. */
export const aroundFaults = [
  { device: 'quay-sw-1', fault: 'port-down-on-new', cause: 'ports-down', what: 'a port with somebody behind it stays down' },
  { device: 'eelgate-sw-1', fault: 'no-power-on-new', cause: 'power-not-delivered', what: 'its ports deliver no power' },
  { device: 'quay-core-1', fault: 'bundle-apart-on-new', cause: 'bundle-apart', what: 'a port is not in its aggregate' },
  { device: 'dunmoor-rt-1', fault: 'routes-lost-on-new', cause: 'routes-missing', what: 'it knows one route' },
  { device: 'quay-rt-1', fault: 'tunnel-down-on-new', cause: 'tunnel-down', what: 'its tunnel does not come up' },
  { device: 'dunmoor-sw-1', fault: 'forwards-nothing-on-new', cause: 'forwards-nothing', what: 'it learns no address' },
  { device: 'eelgate-sw-2', fault: 'clock-lost-on-new', cause: 'clock-lost', what: 'its clock begins anew' },
  { device: 'gannet-sw-1', fault: 'snmp-shut-on-new', cause: 'door-shut', what: 'its agent answers nobody' },
  { device: 'quay-cam-1', fault: 'picture-lost-on-new', cause: 'picture-missing', what: 'it shows no picture' },
  { device: 'quay-phone-1', fault: 'unregistered-on-new', cause: 'calls-refused', what: 'it has lost its account, and takes no calls' },
  { device: 'quay-sw-4', fault: 'hears-nobody-on-new', cause: 'neighbours-missing', what: 'it hears none of its neighbours' },
  { device: 'gannet-sw-2', fault: 'other-root-on-new', cause: 'tree-changed', what: 'it takes another bridge for the root' },
  { device: 'quay-wlc-1', fault: 'radios-lost-on-new', cause: 'children-missing', what: 'one of its access points does not join again' },
  { device: 'quay-cam-2', fault: 'unrecorded-on-new', cause: 'recording-stopped', what: 'its recorder does not record it any more' },
  {
    device: 'quay-sw-2',
    fault: 'ring-open-on-new',
    cause: 'ring-open',
    what: 'the port that kept the other way round in reserve forwards',
  },
  { device: 'eelgate-cam-1', fault: 'onvif-login-lost-on-new', cause: 'door-login-lost', what: 'its ONVIF service refuses the login' },
  { device: 'more-sw-1', fault: 'older-loader-on-new', cause: 'loader-changed', what: 'it tells an older boot loader' },
  { device: 'more-sw-2', fault: 'fallback-lost-on-new', cause: 'boot-list-shorter', what: 'its other slot is empty' },
  {
    device: 'more-sw-3',
    fault: 'starts-from-works-on-new',
    cause: 'settings-from-elsewhere',
    what: 'its next start takes the settings of the works',
  },
  { device: 'more-sw-4', fault: 'right-lost-on-new', cause: 'licence-missing', what: 'one of its rights is gone' },
  { device: 'more-sw-5', fault: 'complains-on-new', cause: 'log-complains', what: 'its log complains of a lamp driver' },
] as const satisfies readonly RolloutFault[];
