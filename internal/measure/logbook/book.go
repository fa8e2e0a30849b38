package logbook

import (
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/ledger"
)

// A Book holds the pages that may still be written on: the current second, and
// earlier ones with messages that are not settled. It has one owner.
type Book struct {
	start  mono.Time
	crews  int
	pages  []*Page // by second, from the oldest that is not handed over
	takes  int
	judged int // pages below this second are complete but for settlements
	// Hold is how many seconds that are over are held back, because they may yet be
	// marked.
	Hold int
	// Close, if set, is called with each second when it is over, before it is
	// judged.
	Close func(*Page)
}

// NewBook opens a book for a run that starts at an instant.
func NewBook(start mono.Time, crews int) *Book {
	return &Book{start: start, crews: crews, pages: []*Page{NewPage(0, crews)}}
}

// Advance opens pages up to the second of now.
func (b *Book) Advance(now mono.Time) {
	second := int(now.Sub(b.start) / time.Second)
	for last := b.Now(); last.At < second; last = b.Now() {
		if b.Close != nil {
			b.Close(last)
		}
		last.Judge()
		b.judged = last.At + 1
		next := NewPage(last.At+1, b.crews)
		next.Gauges, next.Counts.Routes.On = last.Gauges, last.Counts.Routes.On
		b.pages = append(b.pages, next)
	}
}

// Now is the page of the current second.
func (b *Book) Now() *Page { return b.pages[len(b.pages)-1] }

// At is the page of an instant's second: the nearest open one.
func (b *Book) At(t mono.Time) *Page { return b.Second(int(t.Sub(b.start) / time.Second)) }

// Second is the page of a second: the nearest open one. Something will be booked on it.
func (b *Book) Second(n int) *Page {
	p := b.pages[min(max(n-b.pages[0].At, 0), len(b.pages)-1)]
	p.copied = nil
	return p
}

// Of is the page that a sheet belongs to.
func (b *Book) Of(s *ledger.Sheet) *Page {
	p := b.Second(s.Second)
	if s.Own {
		return p.SentLate()
	}
	return p
}

// Mark marks the seconds from one instant to another with a reason for which
// the tool could not do its work in time.
func (b *Book) Mark(from, to mono.Time, why Overload) {
	for _, p := range b.pages {
		begin := b.start.Add(time.Duration(p.At) * time.Second)
		if begin <= to && begin.Add(time.Second) > from {
			p.Health.Waiting |= why
			p.Judge()
		}
	}
}

// Start is when the run started.
func (b *Book) Start() mono.Time { return b.start }

// Take removes the oldest pages on which nothing more will be booked and
// returns them as entries, and copies of the others beside them. With all set
// it takes every page.
func (b *Book) Take(all bool) (closed, open []*Entry) { return b.TakeClosed(all), b.Open() }

// TakeClosed is the first half of Take.
func (b *Book) TakeClosed(all bool) (closed []*Entry) {
	for len(b.pages) > 0 {
		p := b.pages[0]
		if !all && (p.At >= b.judged-b.Hold || !p.settled()) {
			break
		}
		closed = append(closed, p.Entry())
		b.pages = b.pages[1:]
	}
	return closed
}

// Open is the second half of Take.
func (b *Book) Open() (open []*Entry) {
	b.takes++
	for i, p := range b.pages {
		// On pages that are over little happens any more: they are copied
		// again each fourth time.
		if p.copied == nil || i >= len(b.pages)-2 || b.takes%4 == 0 {
			p.copied = p.Entry()
			p.copied.Settled = false // the second may not even be over
		}
		open = append(open, p.copied)
	}
	return open
}
