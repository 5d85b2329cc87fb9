import { Migration } from '@mikro-orm/migrations';

/** The layout of the tables; written into `PRAGMA user_version`, so that an older Barrow can refuse a newer database. */
export const schemaVersion = 18;

class First extends Migration {
  override up(): void {
    const tables = [
      `network (id text primary key, name text not null unique, site text not null, ranges json not null, exclude json not null,
        snmp_port integer not null, ssh_port integer not null, credentials json not null, packets_per_second integer not null, store_address text)`,
      `credential (id text primary key, name text not null unique, kind text not null, user text, sealed text not null, created_at integer not null)`,
      `device (id text primary key, name text not null, address text not null, kind text not null, maker text, model text,
        hardware_revision text, variant text, serial text, mac text, engine_id text, firmware text, boot_loader text, family text,
        family_evidence text, site text not null, network text not null, snmp_credential text, host_key text, up_since integer,
        first_seen integer not null, last_seen integer not null)`,
      `observation (id integer primary key autoincrement, device text not null, probe text not null, address text not null, at integer not null,
        raw json not null, parsed json not null)`,
      `image (sha256 text primary key, file text not null, family text not null, maker text not null, models json not null,
        hardware_revisions json not null, variant text not null, version text not null, bytes integer not null, added_at integer not null,
        added_by text not null)`,
      `target (id text primary key, family text not null, version text not null, model text, site text, device text, set_at integer not null,
        set_by text not null)`,
      `offer (id text primary key, image text not null, device text not null, created_at integer not null, created_by text not null)`,
      `transfer (id text primary key, device text, device_name text, peer text not null, file text not null, image text, state text not null,
        asked_at integer not null, ended_at integer, asked_options json not null, block_size integer, window_size integer, bytes integer not null,
        total_bytes integer not null, rate real not null, block integer not null, resent integer not null, detail text)`,
      `discovery (id text primary key, started_at integer not null, result json not null)`,
      `rollout (id text primary key, name text not null, created_at integer not null, created_by text not null, plan json not null,
        ended integer not null, summary json)`,
      `journal (seq integer primary key, rollout text not null, at integer not null, event json not null)`,
      `conversation (id integer primary key autoincrement, rollout text not null, run text not null, step text not null, at integer not null,
        text text not null)`,
      `backup (id text primary key, sha256 text not null, device text not null, taken_at integer not null, rollout text, bytes integer not null,
        firmware text, sealed text not null)`,
      `token (id text primary key, name text not null unique, role text not null, digest text not null unique, created_at integer not null,
        last_used integer)`,
      `deed (id integer primary key autoincrement, at integer not null, who text not null, role text not null, method text not null,
        path text not null, status integer not null)`,
    ];
    for (const table of tables) this.addSql(`create table ${table};`);
    const indexes = [
      'device_serial on device (serial)',
      'device_mac on device (mac)',
      'device_name on device (name)',
      'device_address on device (address)',
      'observation_device on observation (device, at)',
      'journal_rollout on journal (rollout, seq)',
      'conversation_run on conversation (rollout, run)',
      'backup_device on backup (device, taken_at)',
      'transfer_asked on transfer (asked_at)',
    ];
    for (const index of indexes) this.addSql(`create index ${index};`);
    this.addSql('pragma user_version = 1;');
  }
}

/** Discovery by every standard probe, parents and children, the map, and what people enter. */
class Discovering extends Migration {
  override up(): void {
    const columns: Record<string, readonly string[]> = {
      network: [
        'http_port integer not null default 80',
        'https_port integer not null default 443',
        'ws_discovery_port integer not null default 3702',
        'sip_port integer not null default 5060',
        `probes json not null default '["snmp","ssh","http","onvif","sip"]'`,
      ],
      credential: ['second text', `settings json not null default '{}'`],
      device: [
        ...['addresses', 'members', 'outlets', 'flags', 'by_hand', 'tags'].map((c) => `${c} json not null default '[]'`),
        ...['believed_by', 'credentials'].map((c) => `${c} json not null default '{}'`),
        ...['on_parent', 'feed_by_hand', 'uplink_by_hand'].map((c) => `${c} json`),
        ...['parent', 'firmware_note', 'shown_host_key'].map((c) => `${c} text`),
        `note text not null default ''`,
      ],
      observation: ['last_at integer not null default 0', 'times integer not null default 1', `digest text not null default ''`],
    };
    for (const [table, added] of Object.entries(columns))
      for (const column of added) this.addSql(`alter table ${table} add column ${column};`);
    this.addSql('update observation set last_at = at;');
    this.addSql('create table surroundings (device text primary key, at integer not null, data json not null);');
    this.addSql(`create table history (id integer primary key autoincrement, device text not null, at integer not null, field text not null,
      before text, after text, probe text not null);`);
    this.addSql('create table refusal (id text primary key, credential text not null, address text not null, at integer not null);');
    this.addSql('create index history_device on history (device, at);');
    this.addSql('create index device_parent on device (parent);');
    this.addSql('pragma user_version = 2;');
  }
}

/** Images of several files with notes, narrower targets, pins, advisories. */
class Knowing extends Migration {
  override up(): void {
    const columns: Record<string, readonly string[]> = {
      image: [
        `component text not null default 'system'`,
        `channel text not null default 'release'`,
        `files json not null default '[]'`,
        `note json`,
      ],
      target: [
        `from_families json not null default '[]'`,
        'hardware_revision text',
        'tag text',
        'accept_unreleased integer not null default 0',
      ],
    };
    for (const [table, added] of Object.entries(columns))
      for (const column of added) this.addSql(`alter table ${table} add column ${column};`);
    this.addSql(`update image set files = json_array(json_object('file', file, 'sha256', sha256, 'bytes', bytes));`);
    // Images of before have a note that says what their columns said.
    this
      .addSql(`update image set note = json_object('imageNote', 1, 'family', family, 'version', version, 'component', 'system', 'channel', 'release',
      'withdrawn', null, 'models', json(models), 'hardwareRevisions', json(hardware_revisions), 'variant', variant, 'files', json(files),
      'spaceBytes', null, 'from', json('[]'), 'reboots', 1, 'goingDown', 'refused', 'resets', json('[]'), 'drops', json('[]'),
      'bringsBootLoader', null, 'needs', json_object('bootLoader', null, 'partners', json('[]'), 'programs', json('[]')),
      'fixes', json('[]'), 'notes', '');`);
    // A variant that no probe told was only supposed; a twin would take the wrong file by it.
    this.addSql(`update device set variant = null where json_extract(believed_by, '$.variant') is null;`);
    this.addSql(`create table pin (device text primary key, version text not null, reason text not null, ask_again text not null,
      set_at integer not null, set_by text not null);`);
    this.addSql('create table advisory (id text primary key, added_at integer not null, added_by text not null, data json not null);');
    this.addSql(`create table mapping (id text primary key, vendor text not null, product text not null, family text, models json not null,
      confirmed_at integer not null, confirmed_by text not null);`);
    this.addSql('pragma user_version = 3;');
  }
}

/** Transfers that explain themselves, deliveries ahead of rollouts, sites with links and stores, armed devices. */
class Staging extends Migration {
  override up(): void {
    const columns: Record<string, readonly string[]> = {
      device: ['armed json', `fetches_from json not null default '[]'`],
      transfer: [
        'site text',
        `protocol text not null default 'tftp'`,
        `rates json not null default '[]'`,
        'verified integer',
        'cause text',
        `evidence json not null default '[]'`,
        `findings json not null default '[]'`,
        'packets json',
      ],
    };
    for (const [table, added] of Object.entries(columns))
      for (const column of added) this.addSql(`alter table ${table} add column ${column};`);
    this.addSql(`create table delivery (id text primary key, image text not null, place text not null, holder text, site text not null,
      devices json not null, state text not null, make_room integer not null, bytes integer not null, cause text, detail text,
      removed json not null, digest_there text, transfers json not null, created_at integer not null, created_by text not null,
      ended_at integer);`);
    this.addSql('create table site (name text primary key, link_kilobits integer, store_address text, store json);');
    this.addSql('create index transfer_device on transfer (device, asked_at);');
    this.addSql('pragma user_version = 4;');
  }
}

/** What a held image was compared by, and single values of the service: a check value of the key, who has the database open. */
class Mending extends Migration {
  override up(): void {
    this.addSql('alter table transfer add column compared_by text;');
    // What was called verified before may have been read and not compared.
    this.addSql('update transfer set verified = null;');
    this.addSql('create table mark (name text primary key, value text not null);');
    this.addSql('pragma user_version = 5;');
  }
}

/** Passwords go only to hosts that a person approved; what was logged in to before stays approved. */
class Approving extends Migration {
  override up(): void {
    this.addSql('alter table network add column trust_now integer not null default 0;');
    this.addSql('alter table device add column approved json;');
    this.addSql('alter table credential add column raise text;');
    this.addSql(`update device set approved = json_object('hostKey', host_key, 'address', address, 'family', family, 'at', last_seen,
      'by', 'it had been logged in to before approvals were asked for')
      where json_extract(credentials, '$.ssh') is not null or json_extract(credentials, '$.http') is not null;`);
    this.addSql('pragma user_version = 6;');
  }
}

/** What is asked for by state and by peer, and what is dropped by age, is found without reading everything. */
class Keeping extends Migration {
  override up(): void {
    for (const index of ['transfer_state on transfer (state)', 'transfer_peer on transfer (peer)']) this.addSql(`create index ${index};`);
    this.addSql('create index history_at on history (at);');
    this.addSql('pragma user_version = 7;');
  }
}

/** The journal of one device is found without that of all, and a start goes on from where a rollout was kept. */
class Folding extends Migration {
  override up(): void {
    this.addSql('alter table journal add column run text;');
    this.addSql(`update journal set run = json_extract(event, '$.run');`);
    this.addSql('create index journal_run on journal (rollout, run, seq);');
    this.addSql('create table fold (rollout text primary key, seq integer not null, count integer not null, state json not null);');
    this.addSql('pragma user_version = 8;');
  }
}

/** Each entry of a journal tells of the one before it; those of before have no digest. */
class Chaining extends Migration {
  override up(): void {
    this.addSql('alter table journal add column chain text;');
    this.addSql('alter table fold add column chain text;');
    this.addSql('pragma user_version = 9;');
  }
}

/** Sites have times at which their devices may go down. */
class Windowing extends Migration {
  override up(): void {
    this.addSql('alter table site add column window json;');
    this.addSql('pragma user_version = 10;');
  }
}

/** Sites have somebody who is there. */
class Calling extends Migration {
  override up(): void {
    this.addSql('alter table site add column contact text;');
    this.addSql('pragma user_version = 11;');
  }
}

/** Rollouts begin at a moment that was named. */
class Timing extends Migration {
  override up(): void {
    this.addSql(`create table appointment (rollout text primary key, at integer, latest integer, done_by integer, by text not null,
      accept json not null, missed text);`);
    this.addSql('pragma user_version = 12;');
  }
}

/** How long steps took is kept, for plans to come. */
class Learning extends Migration {
  override up(): void {
    this.addSql(`create table took (id integer primary key autoincrement, device text not null, family text not null, way text not null,
      step text not null, permille integer not null, at integer not null);`);
    this.addSql('create index took_family on took (family, id);');
    this.addSql('pragma user_version = 13;');
  }
}

/** People are told of what happens, wherever they are. */
class Telling extends Migration {
  override up(): void {
    this.addSql(`create table receiver (id text primary key, name text not null unique, kind text not null, "to" text not null,
      "on" json not null, sealed text, created_at integer not null, last_at integer, trouble text);`);
    this.addSql(`create table notice (id integer primary key autoincrement, receiver text not null, rollout text, name text,
      kind text not null, subject text not null, lines json not null, at integer not null, due integer not null,
      tries integer not null, trouble text);`);
    this.addSql('create index notice_due on notice (due);');
    this.addSql('pragma user_version = 14;');
  }
}

/** What was saved is kept once by its digest. */
class Saving extends Migration {
  override up(): void {
    this.addSql('create table saved (sha256 text primary key, sealed text not null);');
    this.addSql('insert into saved (sha256, sealed) select sha256, sealed from backup group by sha256;');
    this.addSql('alter table backup drop column sealed;');
    this.addSql('create index if not exists backup_sha256 on backup (sha256);');
    this.addSql('pragma user_version = 15;');
  }
}

/** What people and devices tell besides; what was compared, and read. */
class Heeding extends Migration {
  override up(): void {
    for (const column of ['told', 'shows']) this.addSql(`alter table device add column ${column} json;`);
    this.addSql('alter table image add column compared text;');
    this.addSql("alter table image add column read json not null default '[]';");
    this.addSql('alter table site add column asked text;');
    this.addSql(`update image set note = json_set(note, '$.needs.licence', null, '$.needs.partners', (
      select json_group_array(json(json_set(value, '$.upTo', null))) from json_each(note, '$.needs.partners')));`);
    this.addSql('pragma user_version = 16;');
  }
}

/** The audit log says what was changed; a device that was replaced is retired. */
class Auditing extends Migration {
  override up(): void {
    this.addSql('alter table deed add column detail json;');
    this.addSql('alter table device add column retired json;');
    this.addSql("update image set note = json_set(note, '$.factoryLogin', null);");
    this.addSql('pragma user_version = 17;');
  }
}

/** A rollout that starts later keeps the reason for its accepted risks. */
class AcceptanceReason extends Migration {
  override up(): void {
    this.addSql('alter table appointment add column reason text;');
    this.addSql('pragma user_version = 18;');
  }
}

export const migrations = [
  { name: '2026-11-23-first', class: First },
  { name: '2026-11-23-discovering', class: Discovering },
  { name: '2026-11-23-knowing', class: Knowing },
  { name: '2026-11-23-staging', class: Staging },
  { name: '2026-11-25-mending', class: Mending },
  { name: '2026-11-25-approving', class: Approving },
  { name: '2026-11-25-keeping', class: Keeping },
  { name: '2026-11-26-folding', class: Folding },
  { name: '2026-11-26-chaining', class: Chaining },
  { name: '2026-11-26-windowing', class: Windowing },
  { name: '2026-11-26-calling', class: Calling },
  { name: '2026-11-26-timing', class: Timing },
  { name: '2026-11-26-learning', class: Learning },
  { name: '2026-11-27-telling', class: Telling },
  { name: '2026-11-27-saving', class: Saving },
  { name: '2026-11-27-heeding', class: Heeding },
  { name: '2026-12-02-auditing', class: Auditing },
  { name: '2026-12-02-acceptance-reason', class: AcceptanceReason },
];
