package client

import (
	"errors"
	"fmt"

	"tidepull/internal/expr"
	"tidepull/internal/ledger"
	"tidepull/internal/logbook"
	"tidepull/internal/mono"
	"tidepull/internal/plain"
	"tidepull/internal/trial"
	"tidepull/internal/wire"
	"tidepull/internal/wire/jsonscan"
	"tidepull/internal/wire/ws"
)

// An Env is what the clients of one loop share. It has one owner, the loop.
type Env struct {
	Trial  *trial.Trial
	Ledger *ledger.Ledger
	Book   *logbook.Book
	Run    uint32 // the run's number, for marks
	Epoch  int64  // what must be added to a mono.Time in microseconds to give a mark's time
	Host   string // for the Host field
	Path   string // of the target

	// What the last call of a client's method asks for, besides the change of
	// its Next. The loop takes it and clears it.
	Out    []byte // bytes to send
	Dial   bool   // connect
	Hangup bool   // close the connection once Out is sent

	Opened, Refused int // connections in the whole run

	Events   []logbook.Event // that happened since the loop took them last
	recorded int

	// Reasons counts why connections were refused or broke.
	Reasons map[string]int

	scope     expr.Scope
	body      []byte
	short     []byte // for a name, a room or a mark
	to        []byte
	crewNames [][]byte
	roomNames [][]byte
	byName    map[string]ledger.Client
}

// maxReasons bounds the different reasons that are kept.
const maxReasons = 50

// NewEnv makes the surroundings of a loop's clients.
func NewEnv(t *trial.Trial, l *ledger.Ledger, b *logbook.Book) *Env {
	e := &Env{Trial: t, Ledger: l, Book: b, Reasons: map[string]int{}, byName: map[string]ledger.Client{}}
	e.scope.Fields = make([]jsonscan.Value, t.Fields.Len())
	for _, c := range t.Crews {
		e.crewNames = append(e.crewNames, []byte(c.Name))
	}
	return e
}

// Clear forgets what was asked for and keeps the memory.
func (e *Env) Clear() { e.Out, e.Dial, e.Hangup = e.Out[:0], false, false }

func (e *Env) counts() *logbook.Counts { return &e.Book.Now().Counts }

// note counts a reason why a connection failed, and returns it in words.
func (e *Env) note(what string, err error) string {
	reason := reasonOf(err)
	text := fmt.Sprintf("%s: %s", what, reason)
	if _, known := e.Reasons[text]; !known && len(e.Reasons) == maxReasons {
		text = "other reasons"
	}
	e.Reasons[text]++
	return reason
}

func reasonOf(err error) string {
	var refusal *ws.Refusal
	var broken *wire.ProtocolError
	switch {
	case errors.As(err, &refusal):
		return refusal.Why
	case errors.As(err, &broken):
		return broken.Rule
	}
	return plain.Text(err.Error(), 100)
}

// event records that something happened to a client.
func (e *Env) event(c *Client, now mono.Time, what logbook.What, room ledger.Room, detail string) {
	if e.recorded < logbook.MaxEvents {
		e.recorded++
		e.Events = append(e.Events, logbook.Event{At: now.Sub(e.Book.Start()), Client: c.id, Room: room, What: what, Detail: detail})
	}
}

func (e *Env) roomName(r ledger.Room) []byte {
	for int(r) >= len(e.roomNames) {
		e.roomNames = append(e.roomNames, []byte(e.Ledger.RoomName(ledger.Room(len(e.roomNames)))))
	}
	return e.roomNames[r]
}

// markTime converts an instant to the time that stands in a mark.
func (e *Env) markTime(t mono.Time) int64 { return int64(t)/1000 + e.Epoch }
