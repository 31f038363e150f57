-- The ledger: an index of receipts. Everything in it comes out of documents in the store.
-- Digests are 32-byte blobs. Times are RFC 3339 text in UTC, which sorts as time does.
CREATE TABLE packs (name BLOB PRIMARY KEY) WITHOUT ROWID;
CREATE TABLE documents (digest BLOB PRIMARY KEY, type TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE runs (
  id TEXT PRIMARY KEY, suffix TEXT NOT NULL, receipt BLOB NOT NULL, started TEXT NOT NULL, seconds REAL NOT NULL,
  state TEXT NOT NULL, label TEXT, sandbox INTEGER NOT NULL, commit_id TEXT, given_label TEXT, sweep TEXT,
  ordered TEXT NOT NULL, by_whom TEXT NOT NULL
) WITHOUT ROWID;
-- When a run began, or when it sorts as begun because the clock had been set back.
CREATE INDEX runs_by_time ON runs (ordered, id);
CREATE INDEX runs_by_suffix ON runs (suffix);
CREATE TABLE run_stages (
  run TEXT NOT NULL, position INTEGER NOT NULL, stage TEXT NOT NULL, state TEXT NOT NULL, key BLOB, receipt BLOB,
  seconds REAL NOT NULL, PRIMARY KEY (run, position)
) WITHOUT ROWID;
CREATE INDEX run_stages_by_key ON run_stages (key);
CREATE INDEX run_stages_by_receipt ON run_stages (receipt);
CREATE TABLE run_params (run TEXT NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (run, name)) WITHOUT ROWID;
CREATE INDEX run_params_by_name ON run_params (name, value);
CREATE TABLE run_metrics (run TEXT NOT NULL, name TEXT NOT NULL, value REAL, PRIMARY KEY (run, name)) WITHOUT ROWID;
CREATE INDEX run_metrics_by_value ON run_metrics (name, value);
CREATE TABLE run_data (
  run TEXT NOT NULL, name TEXT NOT NULL, path TEXT NOT NULL, kind TEXT NOT NULL, digest BLOB NOT NULL, size INTEGER NOT NULL,
  PRIMARY KEY (run, name)
) WITHOUT ROWID;
CREATE INDEX run_data_by_digest ON run_data (digest);
CREATE TABLE stage_receipts (
  digest BLOB PRIMARY KEY, run TEXT NOT NULL, stage TEXT NOT NULL, key BLOB NOT NULL, state TEXT NOT NULL,
  started TEXT NOT NULL, seconds REAL NOT NULL, metrics INTEGER NOT NULL, ordered TEXT NOT NULL,
  -- yes, part, away, no, off or trusted; nothing for what was recorded before stages were observed.
  observed TEXT, observed_inputs BLOB, environment BLOB,
  -- The machine that it was executed on, and the place that it was sent to.
  host TEXT NOT NULL, place TEXT NOT NULL, sealed INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX stage_receipts_by_key ON stage_receipts (key, state, ordered);
CREATE INDEX stage_receipts_by_stage ON stage_receipts (stage, state, ordered);
CREATE INDEX stage_receipts_by_run ON stage_receipts (run);
-- What an execution read of the project without declaring it.
CREATE TABLE undeclared (receipt BLOB NOT NULL, path TEXT NOT NULL, PRIMARY KEY (receipt, path)) WITHOUT ROWID;
-- The packages and interpreters that an execution used, by the document of its observed inputs.
CREATE TABLE used (inputs BLOB NOT NULL, name TEXT NOT NULL, version TEXT NOT NULL, PRIMARY KEY (inputs, name)) WITHOUT ROWID;
CREATE INDEX used_by_name ON used (name, version);
CREATE TABLE paths (
  receipt BLOB NOT NULL, role TEXT NOT NULL, path TEXT NOT NULL, kind TEXT NOT NULL, digest BLOB NOT NULL, size INTEGER NOT NULL,
  files INTEGER, private TEXT, PRIMARY KEY (receipt, role, path)
) WITHOUT ROWID;
CREATE INDEX paths_by_digest ON paths (digest, role);
CREATE TABLE rebuilds (
  receipt BLOB PRIMARY KEY, run TEXT NOT NULL, target TEXT NOT NULL, started TEXT NOT NULL, seconds REAL NOT NULL,
  verdict TEXT NOT NULL, by_whom TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX rebuilds_by_run ON rebuilds (run, started);
CREATE TABLE data_receipts (
  receipt BLOB PRIMARY KEY, name TEXT NOT NULL, number INTEGER NOT NULL, path TEXT NOT NULL, kind TEXT NOT NULL,
  digest BLOB NOT NULL, size INTEGER NOT NULL, files INTEGER, hold TEXT NOT NULL, rows INTEGER, recorded TEXT NOT NULL,
  by_whom TEXT NOT NULL, note TEXT, private TEXT
) WITHOUT ROWID;
CREATE INDEX data_receipts_by_name ON data_receipts (name, number);
CREATE TABLE remarks (
  receipt BLOB PRIMARY KEY, run TEXT NOT NULL, note TEXT, label TEXT, made TEXT NOT NULL, by_whom TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX remarks_by_run ON remarks (run, made);
CREATE INDEX runs_by_sweep ON runs (sweep) WHERE sweep IS NOT NULL;
CREATE TABLE checkpoints (
  receipt BLOB PRIMARY KEY, run TEXT NOT NULL, stage TEXT NOT NULL, step INTEGER NOT NULL, path TEXT NOT NULL, kind TEXT NOT NULL,
  digest BLOB NOT NULL, size INTEGER NOT NULL, files INTEGER, made TEXT NOT NULL, seconds REAL NOT NULL, private TEXT
) WITHOUT ROWID;
CREATE INDEX checkpoints_by_run ON checkpoints (run, stage, step, made);
CREATE INDEX checkpoints_by_digest ON checkpoints (digest);
CREATE TABLE checkpoint_metrics (receipt BLOB NOT NULL, name TEXT NOT NULL, value REAL, PRIMARY KEY (receipt, name)) WITHOUT ROWID;
CREATE TABLE dropped (digest BLOB NOT NULL, pruned TEXT NOT NULL, PRIMARY KEY (digest, pruned)) WITHOUT ROWID;
-- Content that was to be forgotten, and why.
-- `source` where it is a version that had the rows itself.
CREATE TABLE erased (digest BLOB NOT NULL, receipt BLOB NOT NULL, source INTEGER NOT NULL, PRIMARY KEY (digest, receipt)) WITHOUT ROWID;
CREATE TABLE erasures (
  receipt BLOB PRIMARY KEY, erased TEXT NOT NULL, by_whom TEXT NOT NULL, because TEXT NOT NULL, dataset TEXT NOT NULL
) WITHOUT ROWID;
CREATE INDEX data_receipts_by_digest ON data_receipts (digest);
-- Documents that cannot be read, or that say what could do harm: they are left out of everything.
CREATE TABLE unreadable (digest BLOB PRIMARY KEY, what TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE losses (
  receipt BLOB NOT NULL, position INTEGER NOT NULL, digest BLOB, kind TEXT NOT NULL, run TEXT, found TEXT NOT NULL,
  by_whom TEXT NOT NULL, acknowledged INTEGER NOT NULL, PRIMARY KEY (receipt, position)
) WITHOUT ROWID;
