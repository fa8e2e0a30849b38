package client

import (
	"tidepull/internal/base/mono"
	"tidepull/internal/client/reading"
	"tidepull/internal/measure/fact"
	"tidepull/internal/measure/ledger"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

// judges judges what a message means beside its marks, and reports whether a rule of the dialect is
// about it.
func (j *judge) judges(e *Env, m *reading.Message, at mono.Time) (known bool) {
	j.firstLive(e, m)
	if m.Is&reading.Presence != 0 && m.Members.Said.Kind == expr.Number {
		j.tellOfRoom(e, m.Members.Room, m.Members.All, fact.Fact{Kind: fact.HearsMembers, Time: e.rel(at),
			Number: uint64(members(m.Members.Said))})
	}
	if m.Is&reading.Presence != 0 && m.Members.Names.Kind == expr.JSON {
		j.hearsNames(e, m, at)
	}
	for i, k := range [...]ledger.Kind{ledger.Joined, ledger.Gone} {
		if m.Is&(reading.Joined<<i) != 0 {
			j.hearsNotice(e, at, &m.Notices[i], k)
		}
	}
	for i := range m.Feeds {
		j.followsFeed(e, at, &m.Feeds[i])
	}
	return m.Is&(reading.Presence|reading.Joined|reading.Gone) != 0 || len(m.Feeds) > 0
}

// members gives a number of members as a server tells it; noMembers for what cannot
// be one.
func members(v expr.Value) int {
	if n, ok := v.Int(); ok && n >= 0 && n < 1<<31 {
		return int(n)
	}
	return fact.NoMembers
}

// announce tells that the server should tell a room's others that the client enters
// or leaves, if that is what it does.
func (e *Env) announce(k ledger.Kind, room ledger.Room) {
	if e.Trial.Dialect.Notice(k).When != nil {
		e.tell(fact.Fact{Kind: fact.Announces, Client: e.c.id, Room: room, What: uint8(k)})
	}
}

// announceIn is announce for servers that announce who enters and leaves a room.
func (e *Env) announceIn(k ledger.Kind, room ledger.Room) {
	if e.Trial.Dialect.Notice(k).Room != nil {
		e.announce(k, room)
	}
}

// goes tells, before the client is out of its rooms, that the others should hear
// that it leaves.
func (j *judge) goes(e *Env) {
	// One that a fault cut off from its server may have been announced long before.
	if e.Trial.Dialect.Gone.When != nil && !e.cutFromServer() {
		e.tellOf(fact.Goes, noRoom)
	}
}

// hearsNotice tells that the client heard who enters or leaves, unless it is somebody else's client.
func (j *judge) hearsNotice(e *Env, at mono.Time, n *reading.Notice, k ledger.Kind) {
	if about, known := e.Names.Of(n.Who); known && n.Who != nil {
		j.tellOfRoom(e, n.Room, n.All, fact.Fact{Kind: fact.Hears, Peer: about, What: uint8(k), Time: e.rel(at)})
	}
}

// maxNames bounds the members that a server may list.
const maxNames = 1 << 16

// hearsNames tells that the client was given a list of a room's members: those that are clients of the run.
func (j *judge) hearsNames(e *Env, m *reading.Message, at mono.Time) {
	room := ledger.Everyone
	if !m.Members.All {
		known := false
		if room, known = e.rooms[string(m.Members.Room)]; !known {
			return // it is in no such room
		}
	}
	e.list, e.to = e.list[:0], e.to[:0]
	n := 0
	jsonscan.Elements(m.Members.Names.Str, func(item []byte) {
		if n++; n > maxNames || len(item) < 2 || item[0] != '"' {
			return
		}
		e.to = jsonscan.Unquote(e.to[:0], item[1:len(item)-1])
		if c, known := e.Names.Of(e.to); known {
			e.list = fact.AppendClients(e.list, c)
		}
	})
	e.tellText(fact.Fact{Kind: fact.HearsNames, Client: e.c.id, Room: room, Time: e.rel(at)}, e.list)
}
