package store

// migrations bring a store from one version of the schema to the next; the
// version is SQLite's user_version. docs/store.md describes the tables.
var migrations = []string{
	// 1
	`
CREATE TABLE run (
  id       INTEGER PRIMARY KEY,
  trial    TEXT NOT NULL,
  name     TEXT NOT NULL DEFAULT '',
  note     TEXT NOT NULL DEFAULT '',
  target   TEXT NOT NULL,
  clients  INTEGER NOT NULL,
  started  INTEGER NOT NULL,
  elapsed  INTEGER NOT NULL DEFAULT 0,
  state    TEXT NOT NULL DEFAULT 'running',
  verdict  TEXT NOT NULL DEFAULT '',
  tool     TEXT NOT NULL,
  outline  TEXT NOT NULL,
  kernel   INTEGER NOT NULL,
  summary  TEXT NOT NULL DEFAULT ''
);
CREATE TABLE room   (run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, number INTEGER NOT NULL,
  name TEXT NOT NULL, PRIMARY KEY (run, number)) WITHOUT ROWID;
CREATE TABLE client (run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, number INTEGER NOT NULL,
  crew TEXT NOT NULL, name TEXT NOT NULL,
  sent INTEGER NOT NULL DEFAULT 0, got INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (run, number)) WITHOUT ROWID;
CREATE TABLE second (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, at INTEGER NOT NULL, settled INTEGER NOT NULL,
  planned INTEGER NOT NULL, out INTEGER NOT NULL, open INTEGER NOT NULL, entered INTEGER NOT NULL,
  sent INTEGER NOT NULL, arrivals INTEGER NOT NULL, overload INTEGER NOT NULL,
  counts TEXT NOT NULL, health TEXT NOT NULL, fit TEXT NOT NULL, foreign_marks INTEGER NOT NULL,
  first BLOB, median BLOB, last BLOB, connect BLOB, enter BLOB, reading_lag BLOB, schedule_lag BLOB,
  PRIMARY KEY (run, at)) WITHOUT ROWID;
CREATE TABLE cell (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, at INTEGER NOT NULL, room INTEGER NOT NULL,
  crew INTEGER NOT NULL, kind TEXT NOT NULL,
  said INTEGER NOT NULL, owed INTEGER NOT NULL, delivered INTEGER NOT NULL, late INTEGER NOT NULL,
  lost INTEGER NOT NULL, excused INTEGER NOT NULL,
  duplicate INTEGER NOT NULL, stray INTEGER NOT NULL, allowed INTEGER NOT NULL, past INTEGER NOT NULL,
  overdue INTEGER NOT NULL,
  PRIMARY KEY (run, at, room, crew, kind)) WITHOUT ROWID;
CREATE TABLE latency (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, at INTEGER NOT NULL, crew INTEGER NOT NULL,
  class INTEGER NOT NULL, histogram BLOB NOT NULL,
  PRIMARY KEY (run, at, crew, class)) WITHOUT ROWID;
CREATE TABLE message (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, number INTEGER NOT NULL, kind TEXT NOT NULL,
  audience INTEGER NOT NULL, room INTEGER NOT NULL,
  sender INTEGER NOT NULL, due INTEGER NOT NULL, said INTEGER NOT NULL, owed INTEGER NOT NULL,
  reached INTEGER NOT NULL, late INTEGER NOT NULL,
  lost INTEGER NOT NULL, odd INTEGER NOT NULL, amiss INTEGER NOT NULL, PRIMARY KEY (run, number)) WITHOUT ROWID;
CREATE TABLE outcome (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, message INTEGER NOT NULL, ord INTEGER NOT NULL,
  client INTEGER NOT NULL,
  fate TEXT NOT NULL, latency INTEGER NOT NULL, PRIMARY KEY (run, message, ord)) WITHOUT ROWID;
CREATE TABLE event (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, ord INTEGER NOT NULL, at INTEGER NOT NULL,
  client INTEGER NOT NULL,
  what TEXT NOT NULL, room INTEGER, detail TEXT NOT NULL DEFAULT '', PRIMARY KEY (run, ord)) WITHOUT ROWID;
CREATE TABLE reason (run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, text TEXT NOT NULL,
  times INTEGER NOT NULL, PRIMARY KEY (run, text)) WITHOUT ROWID;
`,
	// 2: defects, feeds and requests, checks, lanes, final checks
	`
ALTER TABLE cell ADD COLUMN reordered INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cell ADD COLUMN disagreed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cell ADD COLUMN altered INTEGER NOT NULL DEFAULT 0;
ALTER TABLE second ADD COLUMN age BLOB;
ALTER TABLE second ADD COLUMN answer BLOB;
ALTER TABLE second ADD COLUMN checks TEXT NOT NULL DEFAULT 'null';
CREATE TABLE lane (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, ord INTEGER NOT NULL, at INTEGER NOT NULL,
  client INTEGER NOT NULL, what TEXT NOT NULL,
  number INTEGER NOT NULL, peer INTEGER NOT NULL, room INTEGER NOT NULL, size INTEGER NOT NULL, fate TEXT NOT NULL,
  kind TEXT NOT NULL, took INTEGER NOT NULL,
  PRIMARY KEY (run, ord)) WITHOUT ROWID;
CREATE TABLE body (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, message INTEGER NOT NULL, text BLOB NOT NULL,
  cut INTEGER NOT NULL, PRIMARY KEY (run, message)) WITHOUT ROWID;
CREATE TABLE reckoning (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, ord INTEGER NOT NULL, name TEXT NOT NULL,
  verdict TEXT NOT NULL, why TEXT NOT NULL, PRIMARY KEY (run, ord)) WITHOUT ROWID;
`,
	// 3: why a run ended as it did; what the tool itself sent late; scripts' own waits
	`
ALTER TABLE run ADD COLUMN why TEXT NOT NULL DEFAULT '';
ALTER TABLE second ADD COLUMN own TEXT NOT NULL DEFAULT 'null';
ALTER TABLE second ADD COLUMN pushed_back BLOB;
UPDATE run SET state = 'unreachable', why = 'the run failed; see its reasons' WHERE state = 'failed';
ALTER TABLE reckoning RENAME TO final_check;
ALTER TABLE message RENAME COLUMN amiss TO wrong;
UPDATE event SET what = 'closed' WHERE what = 'went home';
UPDATE lane SET what = 'closed' WHERE what = 'went home';
`,
	// 4: what clients caught up on after they were away; times that are known within bounds
	`
ALTER TABLE cell ADD COLUMN caught_up INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cell ADD COLUMN maybe_late INTEGER NOT NULL DEFAULT 0;
ALTER TABLE second ADD COLUMN early TEXT NOT NULL DEFAULT 'null';
`,
	// 5: how clients came to the server
	`
ALTER TABLE second ADD COLUMN usable BLOB;
`,
	// 6: how clients came back
	`
ALTER TABLE second ADD COLUMN reconnect BLOB;
ALTER TABLE second ADD COLUMN back BLOB;
ALTER TABLE run ADD COLUMN happened TEXT NOT NULL DEFAULT 'null';
ALTER TABLE run ADD COLUMN server TEXT NOT NULL DEFAULT 'null';
`,
	// 7: heartbeats
	`
ALTER TABLE second ADD COLUMN pulse TEXT NOT NULL DEFAULT 'null';
ALTER TABLE second ADD COLUMN caught_up BLOB;
`,
	// 8: losses that no slowness explains
	`
ALTER TABLE cell ADD COLUMN overtaken INTEGER NOT NULL DEFAULT 0;
`,
	// 9: one table for all distributions; pulse keeps what older versions wrote into it
	`
CREATE TABLE times (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, at INTEGER NOT NULL, name TEXT NOT NULL,
  histogram BLOB NOT NULL,
  PRIMARY KEY (run, at, name)) WITHOUT ROWID;
INSERT INTO times SELECT run, at, 'connect', connect FROM second WHERE length(connect) > 0;
ALTER TABLE second DROP COLUMN connect;
INSERT INTO times SELECT run, at, 'enter', enter FROM second WHERE length(enter) > 0;
ALTER TABLE second DROP COLUMN enter;
INSERT INTO times SELECT run, at, 'feed.age', age FROM second WHERE length(age) > 0;
ALTER TABLE second DROP COLUMN age;
INSERT INTO times SELECT run, at, 'request', answer FROM second WHERE length(answer) > 0;
ALTER TABLE second DROP COLUMN answer;
INSERT INTO times SELECT run, at, 'schedule.pushed_back', pushed_back FROM second WHERE length(pushed_back) > 0;
ALTER TABLE second DROP COLUMN pushed_back;
INSERT INTO times SELECT run, at, 'routes.usable', usable FROM second WHERE length(usable) > 0;
ALTER TABLE second DROP COLUMN usable;
INSERT INTO times SELECT run, at, 'returns.reconnect', reconnect FROM second WHERE length(reconnect) > 0;
ALTER TABLE second DROP COLUMN reconnect;
INSERT INTO times SELECT run, at, 'returns.back_in', back FROM second WHERE length(back) > 0;
ALTER TABLE second DROP COLUMN back;
INSERT INTO times SELECT run, at, 'returns.caught_up_in', caught_up FROM second WHERE length(caught_up) > 0;
ALTER TABLE second DROP COLUMN caught_up;
INSERT INTO times SELECT run, at, 'self.reading_lag', reading_lag FROM second WHERE length(reading_lag) > 0;
ALTER TABLE second DROP COLUMN reading_lag;
INSERT INTO times SELECT run, at, 'self.schedule_lag', schedule_lag FROM second WHERE length(schedule_lag) > 0;
ALTER TABLE second DROP COLUMN schedule_lag;
`,
	// 10: what excuses a delivery that did not come
	`
ALTER TABLE outcome ADD COLUMN cause TEXT NOT NULL DEFAULT '';
`,
	// 11: one view of all that became of messages, those that the tool itself sent late too
	`
CREATE VIEW became AS
  SELECT run, at, room, crew, kind, said, owed, delivered, late, caught_up, lost, excused, duplicate, stray, allowed,
    past, overdue FROM cell
  UNION ALL
  SELECT second.run, second.at, c.value->>'$.Cell.Room', c.value->>'$.Cell.Crew',
    CASE c.value->>'$.Cell.Kind' WHEN 0 THEN 'notice' WHEN 1 THEN 'whisper' WHEN 2 THEN 'joined' ELSE 'gone' END,
    c.value->>'$.Tally.Said', c.value->>'$.Tally.Owed', c.value->>'$.Tally.Delivered', c.value->>'$.Tally.Late',
    c.value->>'$.Tally.CaughtUp', c.value->>'$.Tally.Lost', c.value->>'$.Tally.Excused',
    c.value->>'$.Tally.Duplicate', c.value->>'$.Tally.Stray', c.value->>'$.Tally.Allowed', c.value->>'$.Tally.Past',
    c.value->>'$.Tally.Overdue'
  FROM second, json_each(second.own, '$.Cells') AS c;
`,
	// 12: what came otherwise than it was said; what there is in messages
	`
ALTER TABLE message ADD COLUMN size INTEGER NOT NULL DEFAULT 0;
ALTER TABLE message ADD COLUMN nth INTEGER NOT NULL DEFAULT 0;
ALTER TABLE message ADD COLUMN traits INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN server_side TEXT NOT NULL DEFAULT 'null';
CREATE TABLE difference (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE, ord INTEGER NOT NULL, name TEXT NOT NULL,
  message INTEGER NOT NULL, client INTEGER NOT NULL, at INTEGER NOT NULL, first INTEGER NOT NULL,
  said BLOB NOT NULL, said_size INTEGER NOT NULL, said_binary INTEGER NOT NULL,
  came BLOB NOT NULL, came_size INTEGER NOT NULL, came_binary INTEGER NOT NULL, other INTEGER,
  PRIMARY KEY (run, ord)) WITHOUT ROWID;
`,
	// 13: what feeds told
	`
ALTER TABLE second ADD COLUMN told TEXT NOT NULL DEFAULT 'null';
`,
	// 14: which processes served the clients
	`
ALTER TABLE run ADD COLUMN processes TEXT NOT NULL DEFAULT 'null';
`,
	// 15: histograms may be deflated, and what is 0 is left out of counts and health; older versions must not read that
	`
SELECT 1;
`,
	// 16: a row of second may be of several that were merged
	`
ALTER TABLE second ADD COLUMN merged INTEGER NOT NULL DEFAULT 0;
ALTER TABLE second ADD COLUMN merged_overloaded INTEGER NOT NULL DEFAULT 0;
`,
}
