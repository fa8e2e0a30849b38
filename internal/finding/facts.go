package finding

import (
	"slices"
	"time"

	"tidepull/internal/measure/ledger"
	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// Facts are what is known of a run, as far as findings follow from it. Nothing in them is changed.
type Facts struct {
	Trial   *trial.Trial
	Elapsed time.Duration
	Over    bool // the run is over, and nothing more will come
	Total   *logbook.Window
	Seconds logbook.Seconds
	Rooms   []string // by number
	Names   []string // of the clients, by number, as they may be shown
	Events  []logbook.Event
	Kept    []ledger.Message // with something wrong; the first of them
	Sampled []ledger.Message // of the good ones
	Unkept  int              // messages with something wrong beyond those that are kept
	// Lost are the deliveries that were lost, one by one, those too that were judged only when their recipient was
	// back; the first of them.
	Lost []Lost
	// Certain reports whether what a figure counts is the server's doing for certain, and not the tool's or the
	// machine's.
	Certain func(figure string) bool
	// Well reports whether neither the tool nor the machine can be why a message that was sent at a time did not
	// come.
	Well func(sent time.Duration) bool
	// InCommon says what all that a figure counts has in common; "" if nothing is known.
	InCommon func(figure string) string
	// Difference says what came in place of a message at a client that got it altered; "" if that is not known.
	Difference func(number uint64, to ledger.Client) string
	Doings     []Doing
	// ServerEnded says how the server ended, if it did and nobody had asked it to: "exit status 2".
	ServerEnded string
	FinalChecks []FinalCheck
}

// messages goes through those that are kept whole, with something wrong and without.
func (f *Facts) messages(yield func(*ledger.Message) bool) {
	for _, list := range [][]ledger.Message{f.Kept, f.Sampled} {
		for i := range list {
			if !yield(&list[i]) {
				return
			}
		}
	}
}

// latencies are how long a message took to each recipient that got it, the shortest first.
func latencies(m *ledger.Message) (all []time.Duration) {
	for i := range m.Outcomes {
		if o := &m.Outcomes[i]; o.Fate == ledger.Delivered {
			all = append(all, o.Latency)
		}
	}
	slices.Sort(all)
	return all
}

// Lost is a delivery that was lost.
type Lost struct {
	Number     uint64
	At         time.Duration // when the message was said
	To, Sender ledger.Client
	Room       ledger.Room
}

// A Doing is something that the trial did on purpose, from one time to another.
type Doing struct {
	Name     string // of the fault
	Do       string // the kind of fault
	From, To time.Duration
}

// A FinalCheck is what a question of the trial, asked after the run, came to.
type FinalCheck struct {
	Name, Why string
	Failed    bool
}
