package board

import (
	"hash/fnv"
	"strconv"
	"time"

	"tidepull/internal/base/mono"
)

// parted is what the board remembers of a member that lost its connection, for as long as it
// may come back by its token.
type parted struct {
	name  string
	login string
	rooms []*room
	seqs  []int64 // of the rooms, when it left
	until mono.Time
}

// maxParted bounds those that are remembered.
const maxParted = 1 << 17

// tokenOf is the token by which a client can come back under its name.
func (b *Board) tokenOf(name string) string {
	h := fnv.New64a()
	h.Write([]byte(name))
	return strconv.FormatUint(finish(h.Sum64()^b.cfg.Switches.Seed), 36)
}

// remember keeps what a member needs to come back.
func (b *Board) remember(m *member) {
	if b.cfg.Resume == 0 || m.name == "" || len(b.parted) >= maxParted {
		return
	}
	p := &parted{name: m.name, login: m.login, until: b.out.Now().Add(b.cfg.Resume)}
	for _, r := range m.rooms {
		p.rooms, p.seqs = append(p.rooms, r), append(p.seqs, r.seq)
	}
	b.parted[b.tokenOf(m.name)] = p
}

// resume puts a client back that says its token, and gives it what it missed: in its first
// room what came after the number that it says, in others what came since it left.
func (b *Board) resume(id int32) {
	token, _ := b.text(fieldToken)
	p := b.parted[token]
	delete(b.parted, token)
	m := &b.members[id]
	if p == nil || p.until < b.out.Now() || m.name != "" || len(b.names[p.name]) > 0 && !b.cfg.Share {
		b.refuse(id, "resume", "nobody is remembered by that token")
		return
	}
	m.name, m.nameJSON, m.login = p.name, quoted(p.name), p.login
	b.names[m.name] = append(b.names[m.name], id)
	after, bad := strconv.ParseInt(string(b.fields[fieldAfter].Raw), 10, 64)
	b.reply(id, `{"kind":"resumed","name":`+string(m.nameJSON)+`}`)
	s := &b.cfg.Switches
	for i, r := range p.rooms {
		m.rooms, r.members = append(m.rooms, r), append(r.members, id)
		b.change(r, id, "joined", true)
		from := p.seqs[i]
		if i == 0 && bad == nil {
			from = after
		}
		times := 1
		switch {
		case s.Meets(s.NoReturn, "no return", m.name):
			times = 0
			b.Truth.Totals.Unreturned++
		case s.Meets(s.DoubleReturn, "double return", m.name):
			times = 2
			b.Truth.Totals.Unreturned++
		}
		for _, n := range r.past {
			for range times {
				if n.seq > from {
					b.reply(id, string(b.noticeJSON("past", r, n)))
					b.Truth.Totals.Past++
				}
			}
		}
	}
}

// forgetParted lets those go that may not come back any more.
func (b *Board) forgetParted(now mono.Time) {
	if now < b.nextForget {
		return
	}
	b.nextForget = now.Add(time.Second)
	for token, p := range b.parted {
		if p.until < now {
			delete(b.parted, token)
		}
	}
}
