package client

import (
	"slices"

	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
)

// roomNumber gives the number that the share has for a room, and tells of a new one.
func (e *Env) roomNumber(name []byte) ledger.Room {
	if r, ok := e.rooms[string(name)]; ok {
		return r
	}
	r := ledger.Room(len(e.roomNames))
	e.rooms[string(name)] = r
	e.roomNames = append(e.roomNames, slices.Clone(name))
	if r != ledger.Everyone {
		e.tellText(fact.Fact{Kind: fact.NamesRoom, Room: r}, name)
	}
	return r
}

func (e *Env) roomName(r ledger.Room) []byte { return e.roomNames[r] }

// tellOfRoom tells something about a room by its name, or with all of all who are named. Other
// shares may know a room that this one does not: then its name goes with it.
func (j *judge) tellOfRoom(e *Env, name []byte, all bool, f fact.Fact) {
	f.Client, f.Room = e.c.id, ledger.Everyone
	r, known := e.rooms[string(name)]
	switch {
	case all:
		e.tell(f)
	case name == nil: // the message names none
	case known:
		f.Room = r
		e.tell(f)
	case e.Shares > 1:
		f.Room = noRoom
		e.tellText(f, name[:min(len(name), maxRoomName)])
	}
}

// maxRoomName bounds the name of a room that a server made up, in bytes.
const maxRoomName = 1 << 10

// isIn keeps that a client is in a room, if rates are dealt out in rooms.
func (j *judge) isIn(e *Env, room ledger.Room) {
	if e.inRooms && !slices.Contains(j.own().inside, room) {
		j.rare.inside = append(j.rare.inside, room)
		e.membersChange(room, 1)
	}
}

// isNotIn is the opposite.
func (j *judge) isNotIn(e *Env, room ledger.Room) {
	if !e.inRooms || j.rare == nil {
		return
	}
	if i := slices.Index(j.rare.inside, room); i >= 0 {
		j.rare.inside = slices.Delete(j.rare.inside, i, i+1)
		e.membersChange(room, -1)
	}
}

// quits tells that a client asks to leave a room.
func (j *judge) quits(e *Env, room ledger.Room) {
	j.isNotIn(e, room)
	j.unfollows(e)
	e.tellOf(fact.Quits, room)
}

// isOut tells that a client is out of a room for certain.
func (j *judge) isOut(e *Env, room ledger.Room) {
	j.isNotIn(e, room)
	j.unfollows(e)
	e.tellOf(fact.IsOut, room)
}

// quitAll tells that a client asks to be out of all its rooms.
func (j *judge) quitAll(e *Env) {
	j.isNowhere(e)
	j.unfollows(e)
	e.tellOf(fact.Closes, noRoom)
}

// isGone tells that a client's connection is gone, and it is out of all its rooms.
func (j *judge) isGone(e *Env) {
	j.isNowhere(e)
	j.unfollows(e)
	e.tellOf(fact.IsGone, noRoom)
}

func (j *judge) isNowhere(e *Env) {
	for j.rare != nil && len(j.rare.inside) > 0 {
		j.isNotIn(e, j.rare.inside[0])
	}
}

// withdraws takes back that the others are told of the room that the client was about to be let into by
// itself.
func (j *judge) withdraws(e *Env) {
	if j.rare == nil {
		return
	}
	if room, ok := j.rare.early.room.Get(); ok && e.Trial.Dialect.Notice(ledger.Joined).Room != nil {
		e.tellOf(fact.Withdraws, room)
	}
}

// isPutBack tells that the server has put a client back into its rooms by itself.
func (j *judge) isPutBack(e *Env, rooms []ledger.Room) {
	for _, r := range append([]ledger.Room{ledger.Everyone}, rooms...) {
		e.tellOf(fact.Asks, r)
		e.tellOf(fact.Enters, r)
		if r != ledger.Everyone {
			j.isIn(e, r)
		}
	}
	j.naming = nameConfirmed
}
