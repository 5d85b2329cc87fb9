/** One named reason of a failure: what happened in a sentence, and what to look at next. */
export interface Cause {
  readonly code: string;
  readonly what: string;
  readonly next: string;
  /** `not-begun`: the device was absent, busy or not ready, so nothing was tried on it and nothing failed. */
  readonly counts: 'failed' | 'not-begun';
  /** It may pass by itself: the device is asked again while others of its rollout are under way. */
  readonly passes?: true;
  /** It is told first, whatever failed before it: it is our doing, and somebody has to act. */
  readonly outweighs?: true;
}

const list = [
  {
    code: 'unreachable',
    what: 'The device answers neither SNMP nor SSH at its address.',
    next: 'Is it powered, and is its address still the same? Run a discovery of its network; look at the switch port it hangs on.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'login-refused',
    what: 'The device refused the login.',
    next: 'Check the credential of its network. Repeated tries may lock the account.',
    counts: 'failed',
  },
  {
    code: 'needed-run',
    what: 'A device that has to be done first was not verified.',
    next: 'See to that one and retry it: what was not begun for want of it goes on by itself then.',
    counts: 'not-begun',
  },
  {
    code: 'login-slow',
    what: 'The device shook hands and then left the login unanswered.',
    next: 'It probably asks a login server that does not answer: look at that server, and at the way from the device to it.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'sessions-full',
    what: 'The device closed the connection before a login was possible.',
    next: 'Its sessions are taken, or a filter turns this machine away. Close sessions that nobody uses; look at its access list.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'no-common-algorithm',
    what: 'The device and Barrow have no SSH algorithm in common.',
    next: 'Its SSH is too old or too strict. Read which ones it offers in the detail; a newer firmware, or its console, may be the way.',
    counts: 'not-begun',
  },
  {
    code: 'clock-wrong',
    what: 'The login depends on the clock of the device, and that clock is wrong or not told.',
    next: 'Set the clock of the device, or give it a time server, and try again. The password may well be right.',
    counts: 'not-begun',
  },
  {
    code: 'key-unusable',
    what: 'The private key of the credential cannot be used: its passphrase is wrong, or it is in a form that is not read.',
    next: 'The device was not asked. Put the key in again with its passphrase: `barrow credential add NAME --replace`.',
    counts: 'not-begun',
  },
  {
    code: 'credential-suspended',
    what: 'A login that had worked was refused by several devices, so Barrow stopped trying it.',
    next: 'The password was probably changed everywhere, or the login server is away. Put the new secret in with `barrow credential add NAME --replace`, then discover again. A rollout waits for it, and goes on by itself when it lets in again.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'awaiting-approval',
    what: 'A password would go to a host that nobody has approved yet, so it was not sent.',
    next: 'See which host shows itself, as what and with which key: `barrow device waiting`. Approve it with `barrow device approve NAME`, then go on. Keys and SNMP v3 need no approval.',
    counts: 'not-begun',
  },
  {
    code: 'no-credential',
    what: 'No credential is known that could open this device.',
    next: 'Add one with `barrow credential add NAME --kind KIND` and name it in the network of this device.',
    counts: 'not-begun',
  },
  {
    code: 'host-key-changed',
    what: 'The device showed another SSH host key than the one pinned at first sight.',
    next: 'Somebody may have reset or replaced the device, or another device holds its address. Compare the serial before accepting the new key.',
    counts: 'failed',
  },
  {
    code: 'not-answered',
    what: 'A person was asked for something that only they can tell, and nobody answered.',
    next: 'Have ready what is asked for, then `barrow rollout retry ROLLOUT DEVICE`; who is asked is shown by `barrow rollout show ROLLOUT`.',
    counts: 'failed',
  },
  {
    code: 'session-lost',
    what: 'The session to the device ended in the middle of a command.',
    next: 'See how far the dialogue came; ask the device whether it restarted by itself.',
    counts: 'failed',
  },
  {
    code: 'no-answer-in-time',
    what: 'The device took longer over a command than its family allows.',
    next: 'Read the last lines of the dialogue: it may be waiting for an answer, or be busy.',
    counts: 'failed',
  },
  {
    code: 'unexpected-answer',
    what: 'The device answered something that its family file does not expect.',
    next: 'Read the dialogue; the family file may not fit this firmware.',
    counts: 'failed',
  },
  {
    code: 'another-device',
    what: 'The serial at this address is not the one that was planned for.',
    next: 'The device was replaced or its address went to another. Discover again and make a new plan.',
    counts: 'not-begun',
  },
  {
    code: 'version-moved',
    what: 'The device no longer runs the version that the plan started from.',
    next: 'Somebody changed it since the plan was made. Discover again and make a new plan.',
    counts: 'not-begun',
  },
  {
    code: 'wrong-hardware',
    what: 'The image is not for this model or hardware revision.',
    next: 'Compare the image with the record of the device; add the image that is for this hardware.',
    counts: 'failed',
  },
  {
    code: 'unsaved-settings',
    what: 'The device has settings that were never saved; the reboot would lose them.',
    next: 'Read the differences. Save them on the device and retry, or plan with `--unsaved save` to have Barrow save them.',
    counts: 'not-begun',
  },
  {
    code: 'device-in-use',
    what: 'The device is in use, for example in a call.',
    next: 'Wait until nobody uses it any more, or ask whoever does. Barrow asks again by itself while the rollout runs.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'device-busy',
    what: 'The device is already busy with its firmware.',
    next: 'Somebody else may be upgrading it, or an earlier transfer is still running. Wait for it to end, then retry.',
    counts: 'not-begun',
    passes: true,
  },
  {
    code: 'no-space',
    what: 'There is not enough free space on the flash of the device.',
    next: 'Remove files that are neither running nor chosen for the next boot, then retry.',
    counts: 'failed',
  },
  {
    code: 'image-missing',
    what: 'The image is not in the store, or its content no longer has its digest.',
    next: 'Run `barrow image verify`, and add the file again from its source.',
    counts: 'failed',
  },
  {
    code: 'image-withdrawn',
    what: 'The image was withdrawn after the rollout was planned.',
    next: 'Read why on the page of the image; set another target, and plan anew.',
    counts: 'not-begun',
  },
  {
    code: 'pinned',
    what: 'A person pinned the device after the rollout was planned.',
    next: 'It stays as it is. Take the pin back with `barrow target unpin DEVICE`, and plan anew, if it is to go on.',
    counts: 'not-begun',
  },
  {
    code: 'target-moved',
    what: 'The target of the device is another than when the rollout was planned.',
    next: 'Nothing was done to it. Plan anew: `barrow standing` shows what it should run now.',
    counts: 'not-begun',
  },
  {
    code: 'never-asked',
    what: 'The device was told to turn to the store, but no request from it arrived there.',
    next: 'Look for a firewall or a route between device and store, and at the address the store is offered at.',
    counts: 'failed',
  },
  {
    code: 'transfer-broken',
    what: 'The transfer was begun, but it did not come to its end.',
    next: 'Look at the transfer: the block it stopped at, and how often it was sent again. Suspect loss or a restart on the way.',
    counts: 'failed',
  },
  {
    code: 'store-not-listening',
    what: "Barrow's store is not listening, so that nothing can be fetched.",
    next: 'Read why in the detail: mostly another program has the port, or the right to bind it is missing. `barrow staging check` tests it.',
    counts: 'failed',
  },
  {
    code: 'store-address-wrong',
    what: 'The device is told to fetch from an address at which the store does not listen.',
    next: 'Say at what address the devices of this site see Barrow: `barrow site set SITE --store-address ADDRESS`. Then run `barrow staging check`.',
    counts: 'failed',
  },
  {
    code: 'way-to-store-blocked',
    what: 'The device answers, but neither its request nor its ping reaches the store.',
    next: 'A filter or a route between device and store: look at the access lists of its VLAN, its default gateway, and the firewall of this machine.',
    counts: 'failed',
  },
  {
    code: 'asked-from-elsewhere',
    what: 'The file was asked for, but from an address that is not known to be the device.',
    next: 'The device may have several interfaces, or its address is translated on the way. If that was the device, say so: `barrow transfer claim TRANSFER DEVICE`.',
    counts: 'failed',
  },
  {
    code: 'store-login-missing',
    what: 'The device asked the store, and did not log in there as its family says.',
    next: 'The store asks for the login that `asks: login` in the family file names. If these devices cannot log in, or only in the other way, correct that line.',
    counts: 'failed',
  },
  {
    code: 'asked-other-name',
    what: 'The device asked for a file under another name than the one that is staged.',
    next: 'Compare the two names letter by letter: case, extension, a folder before it. Correct what the device was told to fetch.',
    counts: 'failed',
  },
  {
    code: 'reply-never-acknowledged',
    what: "The device's request arrived, but not one of the store's answers was acknowledged.",
    next: 'TFTP answers from a new port: a firewall that lets in port 69 only drops it. Allow UDP from the store to the device, or switch the TFTP helper of the firewall on.',
    counts: 'failed',
  },
  {
    code: 'options-not-kept',
    what: 'The device asked for transfer options and then did not keep to them, or refused their acknowledgement.',
    next: 'Its TFTP client is faulty here. Have it ask without the option that the detail names (window or block size), if it can be told.',
    counts: 'failed',
  },
  {
    code: 'large-blocks-lost',
    what: 'Small packets arrive, but not one of the large blocks that were agreed on.',
    next: 'A link on the way carries smaller packets and drops fragments (VPN, tunnel). Have the device ask for blocks of 1428 octets or fewer, or correct the MTU.',
    counts: 'failed',
  },
  {
    code: 'transfer-stalled',
    what: 'The transfer moved and then stood still: the same block is sent again and again.',
    next: 'Loss on the way, or a device that hangs. Look at the block it stopped at in several tries: always the same one is the device, changing ones are the line.',
    counts: 'failed',
  },
  {
    code: 'transfer-restarts',
    what: 'The device begins the transfer anew over and over, and never finishes it.',
    next: 'It may give up waiting (a slow link), restart by itself, or run out of space. Read its own log; compare how far each try came.',
    counts: 'failed',
  },
  {
    code: 'wrong-size-taken',
    what: 'The device holds another number of octets than the image has.',
    next: 'Its storage may be full or its file system cut the file; some clients cannot take files over 32 MiB. Remove what it holds and try again.',
    counts: 'failed',
  },
  {
    code: 'upload-refused',
    what: 'The device, or the storage that was to hold the image, refused the upload.',
    next: 'Read its words: it may be busy, want another name or another login, or not take this file.',
    counts: 'failed',
  },
  {
    code: 'loader-silent',
    what: 'Its boot loader did not take the image: nobody listened for it at the address where it was sent.',
    next: 'Put the device into its boot loader as its papers say, on the port that they name, and let this machine reach that address (often it needs an address of its own in that network); then retry.',
    counts: 'failed',
  },
  {
    code: 'image-damaged',
    what: 'The device found the image damaged after it had been transferred.',
    next: 'The file in the store is sound (its digest was checked before). Retry the transfer; if it repeats, test the link and the flash.',
    counts: 'failed',
  },
  {
    code: 'image-refused',
    what: 'The device took all bytes and then refused the image.',
    next: 'Read its words: it may want another model, a signature, or a version in between.',
    counts: 'failed',
  },
  {
    code: 'activation-refused',
    what: 'The device would not choose the new image for its next boot.',
    next: 'Read its words. It still boots the old image.',
    counts: 'failed',
  },
  {
    code: 'restarted-in-soak',
    what: 'The device has restarted by itself since it was checked.',
    next: 'Read its log: power, or the new version. Do not go on with others before it is known.',
    counts: 'failed',
  },
  {
    code: 'nothing-to-go-back-to',
    what: 'The device does not hold the version from before any more, or holds it damaged.',
    next: 'Put the earlier image into the store and have it taken back again, or mend what failed and retry.',
    counts: 'failed',
  },
  {
    code: 'next-boot-wrong',
    what: 'The device does not say that it will boot the new image next.',
    next: 'Do not reboot it. Read its boot settings by hand.',
    counts: 'failed',
  },
  {
    code: 'outcome-unknown',
    what: 'Barrow was stopped in the middle of this step, and the device cannot be asked whether it was done.',
    next: 'Look at the device by hand, whether it was done or not; then `barrow rollout retry ROLLOUT DEVICE`, which begins the step anew. A procedure `truth` in its family file would ask for you.',
    counts: 'failed',
  },
  {
    code: 'reboot-not-begun',
    what: 'The device was told to restart, but it stayed up.',
    next: 'It may be waiting for an answer to a question. Read the dialogue; it boots the new image at any restart.',
    counts: 'failed',
  },
  {
    code: 'hour-passed',
    what: 'The hour passed at which the device takes by itself what it holds, and it did not restart.',
    next: 'Look at its clock and at its own schedule. It still holds the image: any restart, or its next hour, may bring it.',
    counts: 'failed',
  },
  {
    code: 'never-returned',
    what: 'The device did not come back after its reboot within the time its family allows.',
    next: 'Look at it: lamps, console, power. Discover its network: it may be back at another address. Its backup is kept.',
    counts: 'failed',
  },
  {
    code: 'settings-of-another-version',
    what: 'The backup was written by another version than the device runs.',
    next: 'Bring the device to the version of the backup first, or enter the settings by hand: `barrow backup show BACKUP` has them.',
    counts: 'failed',
  },
  {
    code: 'settings-refused',
    what: 'The device did not take the settings that it was given.',
    next: 'Its words are beside it. Enter what is missing by hand: `barrow backup show BACKUP` has all of it.',
    counts: 'failed',
  },
  {
    code: 'login-lost',
    what: 'After its restart the device refuses the login that it took before.',
    next: 'Its settings may have been reset, its logins with them: log in at its console, or as its papers say. The backup from before is kept.',
    counts: 'failed',
  },
  {
    code: 'locked-out',
    what: 'The device answers after its restart, and lets nobody in.',
    next: 'Its power was not cut for that. Look at its console: a login, a key or its clock may have been reset. `barrow device show DEVICE` tells what answered.',
    counts: 'failed',
  },
  {
    code: 'console-unreached',
    what: 'The console server through which the device could be spoken to cannot be reached, or does not give its line.',
    next: 'Look at the console server, and whether somebody else holds the line. The device itself may only need its address: a serial cable to its front tells.',
    counts: 'failed',
  },
  {
    code: 'console-silent',
    what: 'Nothing comes over the console of the device.',
    next: 'It has no power, or does not start: look at its lamps. If it stands there alive, the line is not its own: `barrow device set DEVICE --console SERVER:LINE` names the right one.',
    counts: 'failed',
  },
  {
    code: 'console-refused',
    what: 'Over its console the device lets nobody in with the logins that are known.',
    next: 'It lives, and its power was not cut. Log in there as its papers say, and give it its address and login again; then retry it.',
    counts: 'failed',
  },
  {
    code: 'address-refused',
    what: 'Over its console the device did not take the address that it had.',
    next: 'Its words are beside it. Give it its address by hand there, then retry it.',
    counts: 'failed',
  },
  {
    code: 'power-not-switched',
    what: 'What feeds the device did not switch its power.',
    next: 'Look at the login for what feeds it: it has to be allowed to write. Cut the power by hand, or at the device.',
    counts: 'failed',
  },
  {
    code: 'power-left-off',
    what: 'The power of the device was cut, and could not be given again.',
    next: 'Switch its outlet or port on by hand: it is dark until then. Then retry the device.',
    counts: 'failed',
    outweighs: true,
  },
  {
    code: 'went-silent',
    what: 'The device went silent while it took the image, and has not answered since.',
    next: 'Look at it: lamps, power, the port it hangs on. It was not told to restart; what it runs was not touched. Discover its network when it answers.',
    counts: 'failed',
  },
  {
    code: 'rebooted-in-write',
    what: 'The device restarted while its flash was being written.',
    next: 'Look at its power feed. The slot that was being written is not to be trusted; the running one was not touched.',
    counts: 'failed',
  },
  {
    code: 'old-version',
    what: 'The device came back, but on another version than the target.',
    next: 'It fell back or did not take the new image. Read its boot log, and whether the image is still in its slot.',
    counts: 'failed',
  },
  {
    code: 'member-missing',
    what: 'A member of the stack, or a board of the chassis, that was there before the upgrade is not there any more.',
    next: 'Look at that member: its power, its stacking cables, its console. Do not restart the others: they carry on without it.',
    counts: 'failed',
  },
  {
    code: 'member-behind',
    what: 'A member of the stack, or a board of the chassis, runs another version than the one that was brought.',
    next: 'Have it take the version of the others by hand, or retry: a stack with two versions may split at the next restart.',
    counts: 'failed',
  },
  {
    code: 'member-moved',
    what: 'A member of the stack is in another place than before the upgrade.',
    next: 'Its ports are named after its place, and have the settings of another member now. Give the members their numbers again before anything is plugged elsewhere.',
    counts: 'failed',
  },
  {
    code: 'reverted',
    what: 'The device fell back by itself to what it ran before, before it was told to keep the new version.',
    next: 'Look why it took so long until then; its family file says after how long it falls back. It is as it was: retry it.',
    counts: 'failed',
  },
  {
    code: 'not-confirmed',
    what: 'The device was told to keep the new version, and does not say that it does.',
    next: 'It falls back by itself unless it is told: tell it by hand, or let it, and read its words.',
    counts: 'failed',
  },
  {
    code: 'next-boot-not-saved',
    what: 'The device runs the target, but its next boot is not set to it.',
    next: 'Set the next boot by hand before anything restarts the device.',
    counts: 'failed',
  },
  {
    code: 'restart-not-proven',
    what: 'Nothing proves that the device has restarted since it was told to.',
    next: 'Compare uptime and boot count by hand; the new firmware may not be running.',
    counts: 'failed',
  },
  {
    code: 'door-shut',
    what: 'A way to ask the device that was open before is shut since the upgrade.',
    next: 'The detail says which. Perhaps the release drops an old protocol, or its service has to be switched on anew. What watches the device that way sees nothing.',
    counts: 'failed',
  },
  {
    code: 'door-login-lost',
    what: 'A login that the device accepted before at another of its doors is refused since the upgrade.',
    next: 'The detail says at which. Whoever comes by that door, a recorder say, is shut out: give it that login again, or the release a new one, and discover it.',
    counts: 'failed',
  },
  {
    code: 'loader-changed',
    what: 'The boot loader is an older one than before the upgrade, or is not told any more.',
    next: 'The release was tried with the other one. Bring the boot loader up again before the next restart.',
    counts: 'failed',
  },
  {
    code: 'boot-list-shorter',
    what: 'The device has fewer images to start from than before the upgrade.',
    next: 'It runs, and has less to fall back on. Look at what its other slot or its boot list holds, and bring an image there.',
    counts: 'failed',
  },
  {
    code: 'settings-from-elsewhere',
    what: 'The next start takes the settings from elsewhere than before the upgrade.',
    next: 'Its settings are right as long as it stays up. Have it start from the kept settings again before anything restarts it.',
    counts: 'failed',
  },
  {
    code: 'licence-missing',
    what: 'A licence that the device held before is missing since the upgrade.',
    next: 'The detail names it. What it allows may go on for a while and stop then: install it again, or ask for one for the new release.',
    counts: 'failed',
  },
  {
    code: 'log-complains',
    what: 'The log complains of something grave of which it did not complain before the upgrade.',
    next: 'Read the lines. What comes with this release for every device is accepted once: `barrow rollout expect ROLLOUT DEVICE`.',
    counts: 'failed',
  },
  {
    code: 'ports-down',
    what: 'Ports that were up before are down since the upgrade.',
    next: 'The detail names them. Look at what hangs on them, and at speed and mode of the ports: a new release may read their settings otherwise.',
    counts: 'failed',
  },
  {
    code: 'bundle-apart',
    what: 'A bundle of ports is not the one it was before.',
    next: 'The detail names the ports. Look at the aggregate on both ends before the next device of the pair is touched: half a bundle carries, and hides it.',
    counts: 'failed',
  },
  {
    code: 'tunnel-down',
    what: 'A tunnel that was up before is down since the upgrade.',
    next: 'The detail names it. Look at both of its ends: a new release may refuse the ciphers, or the version of the key exchange, that the other end still has.',
    counts: 'failed',
  },
  {
    code: 'power-not-delivered',
    what: 'Ports that powered a device before do not since the upgrade.',
    next: 'The detail names them. Look at what they fed, and at the power budget and the priorities of the ports on the new release.',
    counts: 'failed',
  },
  {
    code: 'neighbours-missing',
    what: 'Devices that were heard next to it before are not heard any more.',
    next: 'The detail names them and their ports. Ask them for their side of the cable: if they hear it, only the telling is off.',
    counts: 'failed',
  },
  {
    code: 'forwards-nothing',
    what: 'The device has learned no addresses since its restart: it forwards nothing.',
    next: 'Look at its spanning tree and at the lans of its ports. Who stands behind it is cut off.',
    counts: 'failed',
  },
  {
    code: 'tree-changed',
    what: 'The spanning tree has another root than before.',
    next: 'All ways on this segment may be others. Look at the bridge priorities: an upgrade may have lost the one that made the old root.',
    counts: 'failed',
  },
  {
    code: 'ring-open',
    what: 'A ring of switches that was closed before is open since the upgrade: no port of it blocks any more.',
    next: 'The other way round is gone, and the next failure cuts it. Look at the links on the other side of the ring, and at whether the release runs the same kind of spanning tree.',
    counts: 'failed',
  },
  {
    code: 'routes-missing',
    what: 'The router knows clearly fewer routes than before.',
    next: 'Look at its routing neighbours and tunnels. Sites behind it may be reached over a longer way, or not at all.',
    counts: 'failed',
  },
  {
    code: 'clock-lost',
    what: 'The clock of the device is wrong since the upgrade, and was right before.',
    next: 'Give it its time server again. Certificates, logins and the times of recordings depend on it.',
    counts: 'failed',
  },
  {
    code: 'recording-stopped',
    what: 'What was recorded before is not recorded since the upgrade.',
    next: 'The detail names whose. Look at the recorder: at the state of that input, at its schedule and its storage, and whether the login that it has for the camera still fits.',
    counts: 'failed',
  },
  {
    code: 'picture-missing',
    what: 'The camera answers and shows no picture any more.',
    next: 'Look at its picture yourself, and at the profile that its recorder asks for: a new release may have renamed it.',
    counts: 'failed',
  },
  {
    code: 'calls-refused',
    what: 'The phone answers and takes no calls any more.',
    next: 'The detail has its answer. Look at whether it is registered: at its account, and at the server that it registers with. An upgrade that resets settings takes the account along.',
    counts: 'failed',
  },
  {
    code: 'children-missing',
    what: 'Devices that were managed through it before did not come back to it.',
    next: 'The detail names them. Wait, or look whether their version is too old for what it runs now: such ones are brought up directly.',
    counts: 'failed',
  },
  {
    code: 'settings-changed',
    what: 'The configuration after the upgrade is not the one from before.',
    next: 'Read the differences. The backup from before is kept: `barrow backup show BACKUP`.',
    counts: 'failed',
  },
  {
    code: 'value-unsafe',
    what: 'What was to be put into words for the device could have been words of its own; nothing was sent.',
    next: 'Look where the named value comes from: the address of the store, a file name, a version. Correct it there.',
    counts: 'failed',
  },
  {
    code: 'service-fault',
    what: 'Barrow itself failed at this step.',
    next: 'Read the log of the service; nothing can be said about the device until it was discovered again.',
    counts: 'failed',
  },
] as const satisfies readonly Cause[];

export type CauseCode = (typeof list)[number]['code'];

/** The one list of causes; console, command line, reports and documents read it. */
export const causes: readonly (Cause & { readonly code: CauseCode })[] = list;

const byCode = new Map<string, Cause & { readonly code: CauseCode }>(list.map((c) => [c.code, c]));

/** The cause of that code; `service-fault` for a code that a newer service wrote. */
export function cause(code: string): Cause & { readonly code: CauseCode } {
  return byCode.get(code) ?? byCode.get('service-fault')!;
}

export function isCauseCode(code: string): code is CauseCode {
  return byCode.has(code);
}

/** A failure with its cause; the only error that a procedure or step throws on purpose. */
export class CauseError extends Error {
  constructor(
    readonly code: CauseCode,
    /** What was seen: the device's words, or the numbers that did not fit. Already made safe to show. */
    readonly detail: string,
  ) {
    super(`${code}: ${detail}`);
  }
}
