// Package store keeps runs in one SQLite file: written each second while a run
// goes on, so that one that is killed is there up to its last second, and read
// back as the same Snapshot that a live run shows.
package store

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
	"modernc.org/sqlite" // the driver, without cgo
	sqlite3 "modernc.org/sqlite/lib"

	"tidepull/internal/engine/machine"
)

// DefaultPath is tidepull/runs.db in the user's data folder (XDG Base Directory
// Specification).
func DefaultPath() string { return filepath.Join(xdg.DataHome, "tidepull", "runs.db") }

// A Store is an open file of runs. It may be used by several goroutines.
type Store struct {
	source string // of the database, for further connections
	db     *sql.DB
	Path   string
}

// A TooNew is a store that a newer version of the tool has written.
type TooNew struct {
	Path          string
	Version, Know int
}

func (e *TooNew) Error() string {
	return fmt.Sprintf("%s was written by a newer version of the tool (schema %d; this one knows %d)", e.Path,
		e.Version, e.Know)
}

// Open opens the store in a file, which is made if it is missing, and brings
// its schema up to date.
func Open(path string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("the store: %w", err)
	}
	// The file holds what clients said: it is nobody else's, and SQLite gives its
	// side files the same rights.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the store: %w", err)
	}
	f.Close()
	if err := machine.KeepPrivate(path); err != nil {
		return nil, fmt.Errorf("the store: %w", err)
	}
	// Of a new file: in pages of 4 KiB half of the space is lost, as histograms are a little too long for them. The
	// size must come before the journal's mode, which the driver sets after all pragmas.
	source := "file:" + (&url.URL{Path: path}).EscapedPath() +
		"?_pragma=busy_timeout(2000)&_pragma=page_size(8192)&_pragma=synchronous(NORMAL)&_pragma=foreign_keys(ON)" +
		"&_journal_mode=WAL&_txlock=immediate"
	db, err := sql.Open("sqlite", source)
	if err != nil {
		return nil, fmt.Errorf("the store %s: %w", path, err)
	}
	db.SetMaxOpenConns(1) // one writer; readers of our own wait for it
	s := &Store{db: db, Path: path, source: source}
	// Two processes that make one file at the same time can be in each other's way
	// beyond the busy timeout, which the change to WAL does not wait for.
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err := s.migrate()
		if err == nil {
			return s, nil
		}
		var code *sqlite.Error
		if !errors.As(err, &code) || code.Code()&0xff != sqlite3.SQLITE_BUSY || time.Now().After(end) {
			db.Close()
			return nil, err
		}
	}
}

func (s *Store) migrate() error {
	var version int
	if err := s.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return fmt.Errorf("the store %s: %w", s.Path, err)
	}
	if version > len(migrations) {
		return &TooNew{s.Path, version, len(migrations)}
	}
	if version == len(migrations) {
		return nil
	}
	err := s.transaction(func(tx *sql.Tx) error {
		// Another process may have been first.
		if err := tx.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
			return err
		}
		for ; version < len(migrations); version++ {
			if _, err := tx.Exec(migrations[version]); err != nil {
				return err
			}
		}
		_, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", len(migrations)))
		return err
	})
	if err != nil {
		return fmt.Errorf("bringing the store %s to schema %d: %w", s.Path, len(migrations), err)
	}
	return nil
}

// transaction carries f out whole or not at all.
func (s *Store) transaction(f func(*sql.Tx) error) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

// A Run is one line of the list of runs.
type Run struct {
	ID      int64
	Trial   string
	Name    string
	Note    string
	Target  string
	Clients int
	Started time.Time
	Elapsed time.Duration
	State   string // "running", "finished", "stopped" or "unreachable"
	Verdict string
	Why     string // the verdict, in one line
	Summary []byte // JSON, empty until the run is over
}

// staleAfter is how long a run may be silent before it counts as cut short.
const staleAfter = 5 * time.Second

// CutShort reports whether the run was killed: it is not over, and nothing has
// been written for a while.
func (r *Run) CutShort() bool {
	return r.State == "running" && time.Since(r.Started.Add(r.Elapsed)) > staleAfter
}

// Outcome says in a word how the run ended, or that it goes on.
func (r *Run) Outcome() string {
	switch {
	case r.CutShort():
		return "cut short"
	case r.State == "running" || r.State == "unreachable":
		return r.State
	}
	return r.Verdict
}

// Title is the run's name, or the trial's if it has none.
func (r *Run) Title() string {
	if r.Name != "" {
		return r.Name
	}
	return r.Trial
}

const runColumns = "id, trial, name, note, target, clients, started, elapsed, state, verdict, why, summary"

func scanRun(row interface{ Scan(...any) error }) (r Run, err error) {
	var started, elapsed int64
	err = row.Scan(&r.ID, &r.Trial, &r.Name, &r.Note, &r.Target, &r.Clients, &started, &elapsed, &r.State, &r.Verdict,
		&r.Why, &r.Summary)
	r.Started, r.Elapsed = time.UnixMicro(started), time.Duration(elapsed)*time.Microsecond
	return r, err
}

// Runs lists the runs, the newest first.
func (s *Store) Runs() ([]Run, error) {
	rows, err := s.db.Query("SELECT " + runColumns + " FROM run ORDER BY started DESC, id DESC")
	if err != nil {
		return nil, fmt.Errorf("listing the runs: %w", err)
	}
	defer rows.Close()
	var runs []Run
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, fmt.Errorf("listing the runs: %w", err)
		}
		runs = append(runs, r)
	}
	return runs, rows.Err()
}

// ErrNoRun is the error for a run that the store does not have.
var ErrNoRun = errors.New("there is no such run")

// Run returns one run of the list.
func (s *Store) Run(id int64) (Run, error) {
	r, err := scanRun(s.db.QueryRow("SELECT "+runColumns+" FROM run WHERE id = ?", id))
	if errors.Is(err, sql.ErrNoRows) {
		return r, fmt.Errorf("run %d: %w", id, ErrNoRun)
	}
	return r, err
}

// Rename gives a run a name.
func (s *Store) Rename(id int64, name string) error { return s.change("name", id, name) }

// Annotate gives a run a note.
func (s *Store) Annotate(id int64, note string) error { return s.change("note", id, note) }

func (s *Store) change(column string, id int64, value string) error {
	return s.one(id, "UPDATE run SET "+column+" = ? WHERE id = ?", value, id)
}

// Delete removes a run with everything that belongs to it.
func (s *Store) Delete(id int64) error { return s.one(id, "DELETE FROM run WHERE id = ?", id) }

func (s *Store) one(id int64, query string, args ...any) error {
	result, err := s.db.Exec(query, args...)
	if err != nil {
		return fmt.Errorf("run %d: %w", id, err)
	}
	if n, _ := result.RowsAffected(); n == 0 {
		return fmt.Errorf("run %d: %w", id, ErrNoRun)
	}
	return nil
}

// Insert adds a run that is only a line of the list, without anything measured.
func (s *Store) Insert(r Run) error {
	_, err := s.db.Exec("INSERT INTO run (trial, name, note, target, clients, started, elapsed, state, verdict, "+
		"tool, outline, kernel, summary) VALUES (?,?,?,?,?,?,?,?,?,'','{}',0,?)",
		r.Trial, r.Name, r.Note, r.Target, r.Clients, max(0, r.Started.UnixMicro()), r.Elapsed.Microseconds(), r.State,
		r.Verdict, string(r.Summary))
	return err
}
