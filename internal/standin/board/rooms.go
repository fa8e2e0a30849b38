package board

import (
	"slices"
	"strconv"
	"strings"

	"tidepull/internal/base/mono"
	"tidepull/internal/wire/jsonscan"
)

func (b *Board) room(name string) *room {
	r := b.byName[name]
	if r == nil {
		r = &room{name: name, nameJSON: jsonscan.AppendQuoted(nil, []byte(name))}
		if b.cfg.Switches.Forgetful == 0 {
			for _, n := range b.out.Recall(name, max(1, b.cfg.History)) {
				r.seq = n.Seq
				if b.cfg.History > 0 {
					r.past = append(r.past, notice{from: n.From, text: n.Text, seq: n.Seq})
				}
			}
		}
		b.byName[name] = r
		b.rooms = append(b.rooms, r)
	}
	return r
}

func (b *Board) enter(id int32) {
	name, ok := b.text(fieldRoom)
	m := &b.members[id]
	switch {
	case !ok:
		b.refuse(id, "enter", "a room is a string of 1 to 200 bytes")
		return
	case slices.Contains(b.cfg.Denied, name) && m.login != Master && !b.doorOpen(id):
		b.refuse(id, "enter", "only the harbour master enters here")
		return
	}
	r := b.room(name)
	if b.joinsLater(id, r) {
		return
	}
	again, more, manner := func() {}, "", &b.cfg.Manners
	if manner.Whole {
		more = b.whole(r)
	}
	if !m.in(r) {
		b.comesIn(id, r, !b.races(r, id) && !b.isDeaf(id))
		switch {
		case manner.After:
			again = func() { b.tellPast(id, r)() }
		case !manner.Whole:
			again = b.tellPast(id, r)
		}
	} else {
		b.entersAgain(r, id)
	}
	b.entered(id, r, more)
	again()
	if strings.HasPrefix(name, gaugePrefix) && b.cfg.Gauge > 0 && b.gauges == mono.Never {
		b.gauges = b.out.Now().Add(b.cfg.Gauge)
	}
}

// comesIn has a client be in a room, and the others told of it; it is a member only if that is said.
func (b *Board) comesIn(id int32, r *room, member bool) {
	b.members[id].rooms = append(b.members[id].rooms, r)
	if member {
		r.members = append(r.members, id)
	}
	b.change(r, id, "joined", true)
}

// entered tells a client that it is in a room, and more of that.
func (b *Board) entered(id int32, r *room, more string) {
	b.reply(id, `{"kind":"entered","room":`+string(r.nameJSON)+`,"members":`+strconv.Itoa(r.count())+`,"seq":`+
		strconv.FormatInt(r.seq, 10)+more+`}`)
}

// whole gives a room's history and its members as parts of a confirmation.
func (b *Board) whole(r *room) string {
	var past, names []string
	for _, n := range b.history(r) {
		past = append(past, string(b.noticeJSON("past", r, n)))
		b.Truth.Totals.Past++
	}
	for _, id := range r.members {
		names = append(names, string(b.members[id].nameJSON))
	}
	return `,"history":[` + strings.Join(past, ",") + `],"names":[` + strings.Join(names, ",") + `]`
}

// history is a room's history: without what is held back from its members still, which comes to who is one by then.
func (b *Board) history(r *room) []notice {
	return slices.DeleteFunc(slices.Clone(r.past), func(n notice) bool {
		return slices.ContainsFunc(b.held, func(h heldRelay) bool { return h.room == r && h.seq == n.seq })
	})
}

// tellPast gives a late comer the room's history, as the switch has it. What
// it returns comes after the confirmation.
func (b *Board) tellPast(id int32, r *room) (after func()) {
	past, after := b.history(r), func() {}
	if s := &b.cfg.Switches; b.returns(id) {
		name := b.members[id].name
		switch {
		case s.Meets(s.NoReturn, "no return", name):
			past = nil
			b.Truth.Totals.Unreturned++
		case s.Meets(s.DoubleReturn, "double return", name):
			var twice []notice
			for _, n := range past {
				twice = append(twice, n, n)
			}
			past = twice
			b.Truth.Totals.Unreturned++
		}
	}
	m := relayed{room: r, from: r.name}
	if n := len(past); n > 1 && b.cfg.Switches.happens(spoilHistory, b.cfg.Switches.History, b, m, id) {
		switch b.cfg.Switches.die(spoilHistory+100, b, m, id) % 4 {
		case 0: // a gap between the history and what follows
			past = past[:n-1]
		case 1: // the last one comes again as if it were new
			last := past[n-1]
			after = func() { b.reply(id, string(b.noticeJSON("notice", r, last))) }
		case 2: // out of order
			past[n-1], past[n-2] = past[n-2], past[n-1]
		case 3: // one twice
			past = append(past, past[n-1])
		}
		b.Truth.Totals.Spoilt++
	}
	kind := "past"
	if b.cfg.Manners.Live {
		kind = "notice"
	}
	for _, n := range past {
		b.reply(id, string(b.noticeJSON(kind, r, n)))
		b.Truth.Totals.Past++
	}
	return after
}

// count is how many members the board believes a room to have.
func (r *room) count() int { return len(r.members) + len(r.ghosts) - r.extra }

func (m *member) in(r *room) bool { return slices.Contains(m.rooms, r) }

// ofMember returns the room that the message names, where its sender is in it.
func (b *Board) ofMember(id int32, what string) *room {
	name, _ := b.text(fieldRoom)
	r := b.byName[name]
	if r == nil || !b.members[id].in(r) {
		if r != nil && what == "notice" && b.doorOpen(id) {
			return r
		}
		b.refuse(id, what, "you are not in that room")
		return nil
	}
	return r
}

func (b *Board) leave(id int32) {
	if r := b.ofMember(id, "leave"); r != nil {
		b.removeFrom(r, id, true)
		b.lingersIn(r, id)
		b.reply(id, `{"kind":"left","room":`+string(r.nameJSON)+`}`)
	}
}

// removeFrom takes a client out of a room, as it asked or as it has gone.
func (b *Board) removeFrom(r *room, id int32, asked bool) {
	r.extra -= r.copies(id)
	r.takeOut(id)
	m := &b.members[id]
	if i := slices.Index(m.rooms, r); i >= 0 {
		m.rooms = slices.Delete(m.rooms, i, i+1)
	}
	if n := len(r.ghosts); n > 0 && &r.ghosts[n-1][0] == &m.nameJSON[0] {
		return // nobody is told
	}
	b.change(r, id, "gone", asked || b.isTold(id))
}

// tellMembers answers the question who is in a room.
func (b *Board) tellMembers(id int32) {
	r := b.ofMember(id, "members")
	if r == nil {
		return
	}
	msg := append([]byte(`{"kind":"members","room":`), r.nameJSON...)
	msg = strconv.AppendInt(append(msg, `,"members":`...), int64(r.count()), 10)
	msg = append(msg, `,"names":[`...)
	for i, who := range r.members {
		if i > 0 {
			msg = append(msg, ',')
		}
		msg = append(msg, b.members[who].nameJSON...)
	}
	for _, name := range r.ghosts {
		msg = append(append(msg, ','), name...)
	}
	b.reply(id, string(append(msg, "]}"...)))
}

// change tells the others of who enters or leaves, and has the number of
// members announced, soon: once for a crowd.
func (b *Board) change(r *room, id int32, what string, told bool) {
	if b.cfg.Notices && told {
		b.body = append(append(b.body[:0], `{"kind":"`...), what...)
		b.body = append(append(b.body, `","room":`...), r.nameJSON...)
		b.body = append(append(append(b.body, `,"name":`...), b.members[id].nameJSON...), '}')
		m := relayed{room: r, sender: id, from: b.members[id].name + " " + what, said: b.members[id].said,
			leaveOut: true, unbooked: true}
		b.deliver(b.body, m)
	}
	if !r.dirty {
		r.dirty = true
		b.changed = append(b.changed, r)
	}
	if b.nextAnn == mono.Never {
		b.nextAnn = b.out.Now().Add(b.cfg.Presence)
	}
}

// announce tells each changed room how many its members are.
func (b *Board) announce() {
	b.nextAnn = mono.Never
	for _, r := range b.changed {
		r.dirty = false
		n := r.count()
		b.quirks++
		if b.cfg.Switches.happens(miscount, b.cfg.Switches.Presence, b, relayed{from: r.name, said: b.quirks}, -1) {
			n++
			b.Truth.Totals.Miscounted++
		}
		b.body = append(append(b.body[:0], `{"kind":"presence","room":`...), r.nameJSON...)
		b.body = append(strconv.AppendInt(append(b.body, `,"members":`...), int64(n), 10), '}')
		b.frame = b.out.Frame(b.frame[:0], b.body, false)
		for _, id := range r.members {
			b.out.Send(id, b.frame)
			b.Truth.Totals.Presence++
		}
	}
	b.changed = b.changed[:0]
}

// readGauges gives the members of gauge rooms a reading: nobody asked for it,
// and no client's word is in it.
func (b *Board) readGauges(now mono.Time) {
	b.gauges = mono.Never
	for _, r := range b.rooms {
		if !strings.HasPrefix(r.name, gaugePrefix) || len(r.members) == 0 {
			continue
		}
		b.gauges = now.Add(b.cfg.Gauge)
		r.seq++
		b.body = append(append(b.body[:0], `{"kind":"reading","gauge":`...), r.nameJSON...)
		b.body = strconv.AppendInt(append(b.body, `,"seq":`...), r.seq, 10)
		b.body = strconv.AppendInt(append(b.body, `,"at":`...), now.Wall().UnixMilli(), 10)
		level := 300 + (r.seq*37)%200 // centimetres
		b.body = append(strconv.AppendInt(append(b.body, `,"level":`...), level, 10), '}')
		b.relay(b.body, relayed{room: r, sender: -1, from: r.name, said: uint64(r.seq), received: now, unbooked: true})
		b.Truth.Totals.Readings++
	}
}
