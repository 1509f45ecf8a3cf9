//! The ledger's tables, and how they came about.

/// What brings a ledger from one version to the next; the first entry makes one. The version is `user_version`.
pub(crate) const MIGRATIONS: &[&str] = &[
    "
CREATE TABLE journey (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, generation INTEGER NOT NULL, wanted TEXT NOT NULL,
  stage_version INTEGER NOT NULL, stage TEXT NOT NULL, passed TEXT,
  started INTEGER NOT NULL, changed INTEGER NOT NULL, ended INTEGER, ending TEXT);
CREATE UNIQUE INDEX one_open_journey ON journey (certificate) WHERE ended IS NULL;
CREATE TABLE generation (
  certificate TEXT NOT NULL, number INTEGER NOT NULL, wanted TEXT NOT NULL, serial TEXT NOT NULL,
  fingerprint TEXT NOT NULL, issuer TEXT NOT NULL, not_before INTEGER NOT NULL, not_after INTEGER NOT NULL,
  received INTEGER NOT NULL, confirmed INTEGER, PRIMARY KEY (certificate, number)) WITHOUT ROWID;
CREATE TABLE debt (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, debt TEXT NOT NULL UNIQUE, owed INTEGER NOT NULL, last_trouble TEXT);
CREATE TABLE account (
  authority TEXT NOT NULL, directory TEXT NOT NULL, url TEXT NOT NULL, made INTEGER NOT NULL,
  PRIMARY KEY (authority, directory)) WITHOUT ROWID;
CREATE TABLE failure (
  certificate TEXT PRIMARY KEY, count INTEGER NOT NULL, last INTEGER NOT NULL, hold_until INTEGER,
  reason TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE event (id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, at INTEGER NOT NULL, text TEXT NOT NULL);
CREATE INDEX event_of ON event (certificate, id);
CREATE TABLE backup (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, path TEXT NOT NULL, kept TEXT, mode INTEGER, uid INTEGER,
  gid INTEGER, settled INTEGER);
",
    // Debts have a key of their own; changes to servers belong to the server; holds to the authority; installs to both.
    "
CREATE TABLE debt_new (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, kind TEXT NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL,
  debt TEXT NOT NULL, owed INTEGER NOT NULL, last_trouble TEXT, UNIQUE (kind, at, what));
INSERT OR IGNORE INTO debt_new
  SELECT id, certificate, json_extract(debt, '$.kind'),
    coalesce(json_extract(debt, '$.proof'), json_extract(debt, '$.host'), ''),
    coalesce(json_extract(debt, '$.path'),
      json_extract(debt, '$.name') || ' ' || coalesce(json_extract(debt, '$.type'), 'TXT') || ' ' || json_extract(debt, '$.text')),
    debt, owed, last_trouble FROM debt;
DROP TABLE debt;
ALTER TABLE debt_new RENAME TO debt;
ALTER TABLE account ADD COLUMN thumbprint TEXT;
ALTER TABLE account ADD COLUMN contact TEXT;
CREATE TABLE hold (
  authority TEXT PRIMARY KEY, section TEXT NOT NULL, count INTEGER NOT NULL, last INTEGER NOT NULL,
  until INTEGER NOT NULL, reason TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE install (
  certificate TEXT NOT NULL, machine TEXT NOT NULL, server TEXT NOT NULL, generation INTEGER NOT NULL,
  state TEXT NOT NULL, seen TEXT, changed INTEGER NOT NULL, PRIMARY KEY (certificate, machine, server)) WITHOUT ROWID;
CREATE TABLE undo (
  id INTEGER PRIMARY KEY, server TEXT NOT NULL, certificate TEXT NOT NULL, path TEXT NOT NULL, kind TEXT NOT NULL,
  before TEXT, after TEXT NOT NULL, kept TEXT, mode INTEGER, uid INTEGER, gid INTEGER, shown INTEGER NOT NULL,
  told INTEGER NOT NULL DEFAULT 0, settled INTEGER);
CREATE INDEX undo_open ON undo (server) WHERE settled IS NULL;
CREATE TABLE issuer (authority TEXT NOT NULL, certificate BLOB NOT NULL, PRIMARY KEY (authority, certificate)) WITHOUT ROWID;
DROP TABLE backup;
",
    // No certificate is two generations.
    "
DELETE FROM generation WHERE EXISTS (SELECT 1 FROM generation AS later WHERE later.certificate = generation.certificate
  AND later.fingerprint = generation.fingerprint AND later.number > generation.number);
CREATE UNIQUE INDEX one_generation_of_each ON generation (certificate, fingerprint);
",
    // Files of other machines are changed and put back, too.
    "ALTER TABLE undo ADD COLUMN host TEXT;",
    // What a journey waits for can be asked without reading its stage.
    "
ALTER TABLE journey ADD COLUMN waits_for TEXT;
UPDATE journey SET waits_for = CASE json_extract(stage, '$.stage') WHEN 'published' THEN 'visibility' WHEN 'handed-over' THEN 'answer' END;
",
    // A column's name is that of what it holds.
    "
ALTER TABLE journey RENAME COLUMN wanted TO specification;
ALTER TABLE generation RENAME COLUMN wanted TO specification;
",
    // A journey ends with the stored chain: how that stands on servers is in `install`.
    "
UPDATE journey SET ended = changed, ending = 'arrived'
  WHERE ended IS NULL AND json_extract(stage, '$.stage') IN ('issued', 'installed');
",
    // What happened is kept as values, not as sentences.
    "
DROP TABLE event;
CREATE TABLE event (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, at INTEGER NOT NULL, kind TEXT NOT NULL, event TEXT NOT NULL);
CREATE INDEX event_of ON event (certificate, id);
",
    "ALTER TABLE undo RENAME COLUMN told TO reloaded;",
    // Several runs, and several journeys of one, are under way at once: journeys are leased, and several may owe the same thing.
    "
ALTER TABLE journey ADD COLUMN lease_holder TEXT;
ALTER TABLE journey ADD COLUMN lease_until INTEGER;
CREATE TABLE debt_new (
  id INTEGER PRIMARY KEY, certificate TEXT NOT NULL, kind TEXT NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL,
  debt TEXT NOT NULL, owed INTEGER NOT NULL, last_trouble TEXT, UNIQUE (kind, at, what, certificate));
INSERT INTO debt_new SELECT id, certificate, kind, at, what, debt, owed, last_trouble FROM debt;
DROP TABLE debt;
ALTER TABLE debt_new RENAME TO debt;
",
    // What authorities count, we count, too.
    "
CREATE TABLE spent (
  id INTEGER PRIMARY KEY, authority TEXT NOT NULL, counted TEXT NOT NULL, subject TEXT NOT NULL, at INTEGER NOT NULL,
  certificate TEXT NOT NULL, generation INTEGER);
CREATE INDEX spent_at ON spent (authority, at);
CREATE INDEX spent_by ON spent (certificate, generation);
",
    // A generation that a person has taken off the servers stays off.
    "
CREATE TABLE gone_back (certificate TEXT PRIMARY KEY, generation INTEGER NOT NULL, instead INTEGER, since INTEGER NOT NULL);
",
    // For how long browsers come back over https grows step by step.
    "
CREATE TABLE ramp (
  certificate TEXT NOT NULL, server TEXT NOT NULL, step INTEGER NOT NULL, since INTEGER NOT NULL, PRIMARY KEY (certificate, server));
",
    // When authorities want their certificates renewed.
    "
CREATE TABLE asked_renewal (
  certificate TEXT PRIMARY KEY, generation INTEGER NOT NULL, at INTEGER, starts INTEGER, ends INTEGER, explanation TEXT, trouble TEXT,
  ask_again INTEGER NOT NULL);
",
    // When runs were, and who began them.
    "
CREATE TABLE run (
  id INTEGER PRIMARY KEY, began INTEGER NOT NULL, ended INTEGER NOT NULL, by_timer INTEGER NOT NULL, certificates INTEGER NOT NULL,
  failed INTEGER NOT NULL, waiting INTEGER NOT NULL);
",
    // Whose fault a failure was, and for how long an authority has failed; which generations were revoked, and which have no files any more.
    "
ALTER TABLE failure ADD COLUMN authority TEXT;
ALTER TABLE failure ADD COLUMN authority_since INTEGER;
ALTER TABLE failure ADD COLUMN fault TEXT;
ALTER TABLE generation ADD COLUMN revoked INTEGER;
ALTER TABLE generation ADD COLUMN swept INTEGER;
ALTER TABLE generation ADD COLUMN ask_revocation INTEGER;
ALTER TABLE account ADD COLUMN terms TEXT;
ALTER TABLE account ADD COLUMN clock_ahead INTEGER;
",
    // What people were told, and what is still to be delivered.
    "
CREATE TABLE told (certificate TEXT PRIMARY KEY, told TEXT NOT NULL);
CREATE TABLE undelivered (
  id INTEGER PRIMARY KEY, notify TEXT NOT NULL, news TEXT NOT NULL, since INTEGER NOT NULL, taken_until INTEGER NOT NULL, trouble TEXT);
",
    // Since when records name the keys of generations (TLSA).
    "
CREATE TABLE tlsa (
  certificate TEXT NOT NULL, generation INTEGER NOT NULL, digest TEXT NOT NULL, published INTEGER NOT NULL, ttl INTEGER NOT NULL,
  PRIMARY KEY (certificate, generation));
",
    // What close looks at endpoints found last.
    "
CREATE TABLE look (endpoint TEXT PRIMARY KEY, at INTEGER NOT NULL, points INTEGER NOT NULL, codes TEXT NOT NULL);
",
    // What is asked for with each of a thousand orders is found without going through all rows.
    "
CREATE INDEX spent_on ON spent (authority, counted, subject, at);
CREATE INDEX undo_for ON undo (certificate);
CREATE INDEX undo_of ON undo (path);
CREATE INDEX debt_of ON debt (certificate);
",
];

/// The version of the ledger's tables that this program writes.
pub(crate) const VERSION: i64 = MIGRATIONS.len() as i64;
