package client

import (
	"slices"

	"tidepull/internal/base/mono"
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
		e.tellText(e.now, fact.Fact{Kind: fact.NamesRoom, Room: r}, name)
	}
	return r
}

func (e *Env) roomName(r ledger.Room) []byte { return e.roomNames[r] }

// tellOfRoom tells something about a room by its name, or with all of all who are named. Other
// shares may know a room that this one does not: then its name goes with it.
func (c *Client) tellOfRoom(e *Env, now mono.Time, name []byte, all bool, f fact.Fact) {
	f.Client, f.Room = c.id, ledger.Everyone
	r, known := e.rooms[string(name)]
	switch {
	case all:
		e.tell(now, f)
	case name == nil: // the message names none
	case known:
		f.Room = r
		e.tell(now, f)
	case e.Shares > 1:
		f.Room = noRoom
		e.tellText(now, f, name[:min(len(name), maxRoomName)])
	}
}

// maxRoomName bounds the name of a room that a server made up, in bytes.
const maxRoomName = 1 << 10

// isIn keeps that a client is in a room, if rates are dealt out in rooms.
func (c *Client) isIn(e *Env, now mono.Time, room ledger.Room) {
	if e.inRooms && !slices.Contains(c.optional().inside, room) {
		c.more.inside = append(c.more.inside, room)
		e.membersChange(c, now, room, 1)
	}
}

// isNotIn is the opposite.
func (c *Client) isNotIn(e *Env, now mono.Time, room ledger.Room) {
	if !e.inRooms || c.more == nil {
		return
	}
	if i := slices.Index(c.more.inside, room); i >= 0 {
		c.more.inside = slices.Delete(c.more.inside, i, i+1)
		e.membersChange(c, now, room, -1)
	}
}

// quits tells that a client asks to leave a room.
func (c *Client) quits(e *Env, now mono.Time, room ledger.Room) {
	c.isNotIn(e, now, room)
	e.tellOf(c, now, fact.Quits, room)
}

// isOut tells that a client is out of a room for certain.
func (c *Client) isOut(e *Env, now mono.Time, room ledger.Room) {
	c.isNotIn(e, now, room)
	e.tellOf(c, now, fact.IsOut, room)
}

// quitAll tells that a client asks to be out of all its rooms.
func (c *Client) quitAll(e *Env, now mono.Time) {
	c.isNowhere(e, now)
	e.tellOf(c, now, fact.Closes, noRoom)
}

// isGone tells that a client's connection is gone, and it is out of all its rooms.
func (c *Client) isGone(e *Env, now mono.Time) {
	c.isNowhere(e, now)
	e.tellOf(c, now, fact.IsGone, noRoom)
}

func (c *Client) isNowhere(e *Env, now mono.Time) {
	for c.more != nil && len(c.more.inside) > 0 {
		c.isNotIn(e, now, c.more.inside[0])
	}
}
