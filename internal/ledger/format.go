package ledger

// The state directory holds
//
//	ledger.db          the database
//	spare              room that is given up when the drive is full
//	runs/RUN/          what belongs to one run, private to the account:
//	  lock             locked while the run is going
//	  reserve          room kept for the ledger while a copy fills the drive
//	  pass-N.names     the spool, see package transfer
//	  pass-N.facts
//	  frozen.mtree     the manifest as it was at the switch; never changed by use
//	  setting.N        a settings file as it was before the run
//
// Paths are BLOBs, since a path is bytes and no text. Times are RFC 3339 in
// UTC, empty for "not yet". Migrations are numbered by their place in the
// list (PRAGMA user_version); an older Nexlin refuses a newer ledger.
const dbName = "ledger.db"

// readable is the oldest version that can be read as it is: what came later are indexes.
const readable = 5

var migrations = []string{`
CREATE TABLE runs (
  id       TEXT PRIMARY KEY,
  kind     TEXT NOT NULL,             -- move, bring-back, detach, discard-original
  redirect TEXT NOT NULL,             -- its name; a refused run may have none
  state    TEXT NOT NULL CHECK (state IN ('going', 'stopped', 'done', 'undone', 'refused')),
  plan     BLOB NOT NULL,             -- JSON, fixed when the run begins
  started  TEXT NOT NULL,
  ended    TEXT NOT NULL DEFAULT '',
  message  TEXT NOT NULL DEFAULT ''   -- why it stopped
);
CREATE TABLE acts (
  run    TEXT NOT NULL REFERENCES runs(id),
  seq    INTEGER NOT NULL,
  act    TEXT NOT NULL,
  data   BLOB NOT NULL,               -- JSON, what recovery needs to judge the act
  intent TEXT NOT NULL,
  done   TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (run, seq)
);
CREATE TABLE redirects (
  name     TEXT PRIMARY KEY,
  state    TEXT NOT NULL CHECK (state IN ('linked', 'detached', 'ended')),
  link     BLOB NOT NULL,
  target   BLOB NOT NULL,
  methods  TEXT NOT NULL,
  account  TEXT NOT NULL,
  uid      INTEGER NOT NULL,
  drive    BLOB NOT NULL,             -- JSON: by what the drive is known again
  bytes    INTEGER NOT NULL,
  files    INTEGER NOT NULL,
  created  TEXT NOT NULL,
  run      TEXT NOT NULL              -- the run whose spool describes the target
);
CREATE TABLE held (
  id       INTEGER PRIMARY KEY,
  redirect TEXT NOT NULL,
  run      TEXT NOT NULL,             -- the run whose spool and frozen manifest describe it
  path     BLOB NOT NULL,
  side     INTEGER NOT NULL,          -- 0: what the run copied; 1: the copy it made, set aside by undo
  ino      INTEGER NOT NULL,
  bytes    INTEGER NOT NULL,
  files    INTEGER NOT NULL,
  drive    BLOB NOT NULL,
  since    TEXT NOT NULL,
  gone     TEXT NOT NULL DEFAULT ''   -- when it was discarded, or became the folder again
);
CREATE INDEX held_redirect ON held(redirect);
`, `
CREATE TABLE drives (
  id      TEXT PRIMARY KEY,           -- of the drive tag
  counter INTEGER NOT NULL            -- the highest count of runs that was seen on it
);
`, `
ALTER TABLE redirects ADD COLUMN settings BLOB NOT NULL DEFAULT '[]'; -- JSON: what was changed in settings files
ALTER TABLE redirects ADD COLUMN card     TEXT NOT NULL DEFAULT '';   -- the card it was made by; empty without one
CREATE TABLE packs (
  run      TEXT PRIMARY KEY,
  redirect TEXT NOT NULL,             -- its name; begins with - for a folder that is none
  folder   BLOB NOT NULL,
  file     BLOB NOT NULL,             -- the archive
  bytes    INTEGER NOT NULL,          -- of the archive
  files    INTEGER NOT NULL,          -- in it
  digest   TEXT NOT NULL,             -- SHA-256 of the archive
  made     TEXT NOT NULL
);
`, `
-- what a junction says; empty: the link says the target's path
ALTER TABLE redirects ADD COLUMN link_text TEXT NOT NULL DEFAULT '';
`, `
-- JSON: the drive that the link stands on; {} where it was not noted
ALTER TABLE redirects ADD COLUMN link_drive BLOB NOT NULL DEFAULT '{}';
`, `
-- what is asked of each redirect must not read every run there ever was
CREATE INDEX runs_redirect ON runs(redirect);
`, `
-- nor what is asked before each command: whether a run was stopped
CREATE INDEX runs_unfinished ON runs(state) WHERE state IN ('going', 'stopped');
`}
