package standin

import (
	"database/sql"
	"encoding/json"
	"fmt"

	_ "modernc.org/sqlite" // the driver

	"tidepull/internal/standin/board"
)

// A keep is the notices in SQLite. Those that came since the last look are
// written together.
type keep struct {
	db   *sql.DB
	news []kept
}

type kept struct {
	room       string
	seq        int64
	from, text []byte
}

func openKeep(path string) (*keep, error) {
	db, err := sql.Open("sqlite", path)
	if err == nil {
		_, err = db.Exec("PRAGMA journal_mode = WAL; CREATE TABLE IF NOT EXISTS notice (room TEXT, seq INTEGER, " +
			"author TEXT, text TEXT, PRIMARY KEY (room, seq))")
	}
	if err != nil {
		return nil, fmt.Errorf("the board's store %s: %w", path, err)
	}
	return &keep{db: db}, nil
}

func (k *keep) add(room string, seq int64, from, text []byte) {
	k.news = append(k.news, kept{room, seq, append([]byte(nil), from...), append([]byte(nil), text...)})
}

// flush writes what is new.
func (k *keep) flush() error {
	if len(k.news) == 0 {
		return nil
	}
	tx, err := k.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // nothing, once it is committed
	for _, n := range k.news {
		if _, err := tx.Exec("INSERT OR REPLACE INTO notice VALUES (?, ?, ?, ?)", n.room, n.seq, string(n.from),
			string(n.text)); err != nil {
			return err
		}
	}
	k.news = k.news[:0]
	return tx.Commit()
}

// history gives what is kept of a room as a JSON array.
func (k *keep) history(room string) ([]byte, error) {
	if err := k.flush(); err != nil {
		return nil, err
	}
	rows, err := k.db.Query("SELECT seq, author, text FROM notice WHERE room = ? ORDER BY seq", room)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	type line struct {
		Kind string          `json:"kind"`
		Room string          `json:"room"`
		From json.RawMessage `json:"from"`
		Seq  int64           `json:"seq"`
		Text json.RawMessage `json:"text"`
	}
	all := []line{}
	for rows.Next() {
		n := line{Kind: "past", Room: room}
		var from, text string
		if err := rows.Scan(&n.Seq, &from, &text); err != nil {
			return nil, err
		}
		n.From, n.Text = json.RawMessage(from), json.RawMessage(text)
		all = append(all, n)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return json.Marshal(all)
}

// recall gives the last notices that are kept of a room, the oldest first.
func (k *keep) recall(room string, most int) (all []board.Recalled, err error) {
	if err := k.flush(); err != nil {
		return nil, err
	}
	rows, err := k.db.Query("SELECT seq, author, text FROM (SELECT * FROM notice WHERE room = ? ORDER BY seq DESC "+
		"LIMIT ?) ORDER BY seq", room, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n board.Recalled
		var from, text string
		if err := rows.Scan(&n.Seq, &from, &text); err != nil {
			return nil, err
		}
		n.From, n.Text = []byte(from), []byte(text)
		all = append(all, n)
	}
	return all, rows.Err()
}

func (k *keep) close() error {
	err := k.flush()
	if bad := k.db.Close(); err == nil {
		err = bad
	}
	return err
}
