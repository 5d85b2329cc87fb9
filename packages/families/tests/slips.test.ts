import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { FamilyFileError, parseFamily, shippedFamilies } from '@barrow/families';

const text = readFileSync(join(shippedFamilies, 'tarnbrook-access.yaml'), 'utf8');
/** Of a long message its beginning and its end. */
const short = (told: string): string => (told.length > 150 ? `${told.slice(0, 60)} … ${told.slice(-60)}` : told);

/** Slips of the pen in a family file, each alone: where it is told, and in which words. */
describe('a slip in a family file', () => {
  it.each([
    [
      'kind: switch',
      'kind: swich',
      '5:7',
      'kind: it is one of switch, router, access-point, camera, pho … -strip, console-server, other, not "swich"; is switch meant?',
    ],
    [
      'kind: switch\n',
      '',
      '2:1',
      'kind: it is missing; it is one of switch, router, access-poi … r, base-station, handset, power-strip, console-server, other',
    ],
    ['title: Tarnbrook access switches', 'titel: x', '3:1', ': "titel" is not known here: is title meant?'],
    ['family: tarnbrook-access', 'family: Tarnbrook Access', '2:9', 'family: a family is named in small letters, digits and hyphens'],
    ['models:', 'modles:', '7:1', ': "modles" is not known here: is models meant?'],
    [
      'revisions: [A1, A2] }\n  - { model: TB-2424, revisions: [A1, A2, B1] }',
      'revision: [A1] }\n  - { model: TB-2424, revisions: [A1, A2, B1] }',
      '8:23',
      'models.0: "revision" is not known here: is revisions meant?',
    ],
    [
      'recognise:\n  - snmp:\n      objectId',
      'recognise:\n  - snpm:\n      objectId',
      '15:5',
      'recognise.0: "snpm" is not known here: is snmp meant?',
    ],
    ["objectId: '^1", "objektId: '^1", '16:7', 'recognise.0.snmp: "objektId" is not known here: is objectId meant?'],
    [
      "identification: '^SSH-2",
      "identification: '^SSH-(2",
      '19:23',
      'recognise.1.ssh.identification: not a pattern in RE2 syntax: error parsing regexp: missing closing ): `^SSH-(2\\.0-Tarnbrook_1$`',
    ],
    [
      'order:\n    - { part: major }',
      'order:\n    - { part: mayor }',
      '43:15',
      'versions.order.0.part: no pattern has the part "mayor", so that versions that differ in it would count as equal; the patterns have major, minor, fix',
    ],
    [
      "write: '{major}.{minor}.{fix}'",
      "write: '{major}.{minor}'",
      '46:10',
      'versions.write: it does not write the part "fix", by which versions are in order',
    ],
    [
      'travel: { how: device-pulls, protocol: tftp }',
      'travel: { how: device-pulls, protocol: ftp }',
      '51:40',
      'travel.protocol: it is one of tftp, http, not "ftp"; is tftp meant?',
    ],
    [
      'travel: { how: device-pulls',
      'travel: { how: devicepulls',
      '51:16',
      'travel.how: it is one of device-pulls, pushed, through-parent, not "devicepulls"; is device-pulls meant?',
    ],
    ['staging: { by: tftp }', 'staging: { by: tfpt }', '52:16', 'staging.by: it is one of tftp, http, push, not "tfpt"; is tftp meant?'],
    [
      '{ preflight: 12 s }',
      '{ preflight: 12 sec }',
      '59:30',
      'ways.0.stretches.prepare.0.preflight: a span of time is a number and ms, s, min or h',
    ],
    [
      '{ preflight: 12 s }',
      '{ prefligth: 12 s }',
      '59:17',
      'ways.0.stretches.prepare.0: a step of a way is exactly one o … it usually takes; here stands prefligth; is preflight meant?',
    ],
    [
      'pointOfNoReturn: activate',
      'pointOfNoReturn: activte',
      '63:22',
      'ways.0.pointOfNoReturn: it has no step activte; is activate meant?',
    ],
    [
      'returns: { within: 8 min }',
      'returns: { within: 8 min, addres: same }',
      '64:31',
      'ways.0.returns: "addres" is not known here: what is known is within',
    ],
    [
      'recovery: [wait, console, power-cycle,',
      'recovery: [wait, console, powercycle,',
      '66:31',
      'ways.0.recovery.2: it is one of wait, console, power-cycle, other-slot, restore, earlier-image, not "powercycle"; is power-cycle meant?',
    ],
    ['writeLimit: 5 min', 'writeLimit: five minutes', '65:17', 'ways.0.writeLimit: a span of time is a number and ms, s, min or h'],
    ['shell:\n  prompt', 'shel:\n  prompt', '76:1', ': "shel" is not known here: is shell meant?'],
    [
      'cause: unexpected-answer }\n\nprocedures',
      'cause: unexpected-anser }\n\nprocedures',
      '81:34',
      'shell.fails.0.cause: it is one of unreachable, login-refused … 77 more, not "unexpected-anser"; is unexpected-answer meant?',
    ],
    ['  record:\n    do:', '  recrod:\n    do:', '84:3', 'procedures: "recrod" is not known here: is record meant?'],
    [
      "      - say: tell unit\n        capture:\n          - '^model",
      "      - sya: tell unit\n        capture:\n          - '^model",
      '86:9',
      'procedures.record.do.0: a step is exactly one of say, get, r … , forEach, check, set, pick, when, repeat, eachFile, receive',
    ],
    [
      "      - say: tell unit\n        capture:\n          - '^model",
      "      - say: tell unit\n        captures:\n          - '^model",
      '87:9',
      'procedures.record.do.0: "captures" is not known here: is capture meant?',
    ],
    [
      'is: plain }',
      'si: plain }',
      '99:42',
      'procedures.record.do.2.when: "si" is not known here: what is known is value, is, isNot, atLeast, matches',
    ],
    [
      "where: { value: '${next}', is: next }, as: boots",
      "where: { value: '${nxt}', is: next }, as: boots",
      '104:46',
      'procedures.record.do.4.pick.where.value: nothing gives ${nxt}; is ${next} meant?',
    ],
    [
      "      serial: '${serial}'",
      "      serail: '${serial}'",
      '109:15',
      'procedures.record.gives.serail: nobody reads "serail" of rec … , bootCount, freeBytes, nextBoot, settings; is serial meant?',
    ],
    [
      "serial: '${serial}'",
      "serial: '${serail}'",
      '109:15',
      'procedures.record.gives.serial: nothing gives ${serail}; is ${serial} meant?',
    ],
    [
      'limit: 2 min\n        capture',
      'limit: 2\n        capture',
      '188:16',
      'procedures.verify-image.do.2.limit: a span of time is a number and ms, s, min or h',
    ],
    [
      "from: slots, where: { value: '${use}', is: spare }, as: spare",
      "from: solts, where: { value: '${use}', is: spare }, as: spare",
      '185:23',
      'procedures.verify-image.do.0.rows.into: nobody reads the rows "slots"',
    ],
    [
      'cause: device-busy\n        detail',
      'cause: device-buzy\n        detail',
      '125:16',
      'procedures.ready.do.1.cause: it is one of unreachable, login … ttings and 77 more, not "device-buzy"; is device-busy meant?',
    ],
    [
      'repeat: { every: 2 s,',
      'repeat: { evry: 2 s,',
      '152:19',
      'procedures.transfer.do.0.repeat: "evry" is not known here: is every meant?',
    ],
    ['header: simg', 'header: smig', '26:11', 'images.header: it is one of simg, uboot, fit, none, not "smig"; is simg meant?'],
    [
      'component: boot-loader }',
      'component: bootloader }',
      '31:73',
      'images.names.3.component: it is one of system, boot-loader, not "bootloader"; is boot-loader meant?',
    ],
    [
      'faces: { factory: { user: works',
      'faces: { factori: { user: works',
      '54:10',
      'faces: "factori" is not known here: is factory meant?',
    ],
    ['  verify-image:\n', '  verify-imago:\n', '182:3', 'procedures: "verify-imago" is not known here: is verify-image meant?'],
    [
      "atLeast: '${imageBytes}'",
      "atleast: '${imageBytes}'",
      '127:36',
      'procedures.ready.do.2.check: "atleast" is not known here: is atLeast meant?',
    ],
    [
      'level: 70 s',
      'level: 70 s, levl: 1 s',
      '62:33',
      'ways.0.stretches.prove.1: a step of a way is exactly one of  … how long it usually takes; here stands levl; is level meant?',
    ],
    ['howToFind:\n  firmware', 'howToFind:\n  firmwar', '22:3', 'howToFind: "firmwar" is not known here: is firmware meant?'],
  ])('%j instead of it: %j is told at %s', (right, wrong, place, words) => {
    expect(text).toContain(right);
    let told: string[] = [];
    try {
      parseFamily(
        text.replace(right, () => wrong),
        'f',
      );
    } catch (error) {
      if (!(error instanceof FamilyFileError)) throw error;
      told = error.faults.map((f) => `${f.line}:${f.column} ${short(`${f.where}: ${f.message}`)}`);
    }
    expect(told).toContain(`${place} ${words}`);
  });
});
