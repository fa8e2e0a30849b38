package workers

import (
	"context"
	"strings"
	"sync"
	"testing"
	"time"

	"tidepull/internal/base/mono"
	"tidepull/internal/measure/fact"
	"tidepull/internal/testkit/leak"
)

func TestMain(m *testing.M) { leak.Main(m) }

// slowAccount takes a while for each batch.
type slowAccount struct {
	mu     sync.Mutex
	facts  int
	wrong  string // about the order of what came
	failed error
	ended  chan struct{}
}

func (a *slowAccount) Put(_ int, b *fact.Batch) {
	time.Sleep(2 * time.Millisecond)
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := range b.Facts {
		if b.Lost { // the lead's own words
			break
		}
		if b.Facts[i].Number != uint64(a.facts) {
			a.wrong = "facts are missing, or out of order"
		}
		a.facts++
	}
	if b.Ended {
		close(a.ended)
	}
}

func (a *slowAccount) Post(int, fact.Note) error { return nil }

func (a *slowAccount) Fail(err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.failed == nil {
		a.failed = err
	}
}

// pair is a lead with an account, and a worker.
func pair(t *testing.T) (*Lead, *slowAccount, *Worker) {
	t.Helper()
	l, err := Meet(nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	if err := l.Expect(Config{Workers: 1, Shares: 1, Clients: 10, Order: []byte("set out")}); err != nil {
		t.Fatal(err)
	}
	at := l.Address()
	other := at
	other.Token = "another token"
	if _, _, err := Join(context.Background(), &other, l.Run(), 0); err == nil || !Hopeless(err) {
		t.Fatal("the server lets everybody in")
	}
	w, order, err := Join(context.Background(), &at, l.Run(), 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	if string(order) != "set out" {
		t.Fatalf("told to do %q", order)
	}
	w.Deal(1)
	began := make(chan mono.Time)
	go func() {
		at, err := w.Ready(true, nil)
		if err != nil {
			t.Error(err)
		}
		began <- at
	}()
	if kernel, err := l.Gather(context.Background()); err != nil || !kernel {
		t.Fatal(kernel, err)
	}
	a, begins := &slowAccount{ended: make(chan struct{})}, mono.Now()
	if err := l.Begin(a, begins); err != nil {
		t.Fatal(err)
	}
	if got := <-began; got.Sub(begins).Abs() > time.Microsecond {
		t.Fatalf("it begins at %v, and not at %v", got, begins)
	}
	return l, a, w
}

// TestCredits: what a worker tells faster than the account takes it waits in the worker, and nothing is missing.
func TestCredits(t *testing.T) {
	l, a, w := pair(t)
	const batches, each = 400, 600
	number := uint64(0)
	for n := range batches {
		var b fact.Batch
		for range each {
			b.Add(fact.Fact{Kind: fact.Gets, At: mono.Time(number), Number: number})
			number++
		}
		b.UpTo, b.Ended = mono.Time(number), n == batches-1
		if err := w.Facts(0, &b); err != nil {
			t.Fatal(err)
		}
		if on := credit - len(w.credits); on > credit {
			t.Fatalf("%d batches are on their way", on)
		}
	}
	select {
	case <-a.ended:
	case <-time.After(20 * time.Second):
		t.Fatal("not all facts have come")
	}
	w.Done(nil)
	for end := time.Now().Add(5 * time.Second); l.Waited() == 0 &&
		time.Now().Before(end); time.Sleep(time.Millisecond) {
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.facts != batches*each || a.wrong != "" || a.failed != nil || l.Waited() == 0 {
		t.Errorf("%d of %d facts; %s; %v; %d batches waited", a.facts, batches*each, a.wrong, a.failed, l.Waited())
	}
}

// TestGap: a batch that is missing fails the run, in words.
func TestGap(t *testing.T) {
	_, a, w := pair(t)
	b := fact.Batch{UpTo: 5, Part: &fact.Part{}}
	if err := w.Facts(0, &b); err != nil {
		t.Fatal(err)
	}
	w.seq++ // one that got lost
	b = fact.Batch{UpTo: 6, Part: &fact.Part{}}
	if err := w.Facts(0, &b); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(time.Millisecond) {
		a.mu.Lock()
		err := a.failed
		a.mu.Unlock()
		if err != nil {
			if !strings.Contains(err.Error(), "1 batches of facts are missing between the run's processes") {
				t.Error(err)
			}
			return
		}
		if time.Now().After(end) {
			t.Fatal("nobody has noticed")
		}
	}
}

// TestEnded: what a worker told before its process ended counts, though it is on its way still; the worker is lost only
// if that is not all.
func TestEnded(t *testing.T) {
	for _, all := range []bool{true, false} {
		l, a, w := pair(t)
		const batches = credit - 1 // the account needs two milliseconds for each
		for n := range uint64(batches) {
			b := fact.Batch{UpTo: mono.Time(n), Part: &fact.Part{}, Ended: all && n == batches-1}
			b.Add(fact.Fact{Kind: fact.Gets, At: mono.Time(n), Number: n})
			if err := w.Facts(0, &b); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.facts.Flush(); err != nil {
			t.Fatal(err)
		}
		w.Close()
		l.Ended(0, "ended by itself")
		select {
		case <-a.ended:
		case <-time.After(10 * time.Second):
			t.Fatal("the account waits for ever")
		}
		lost := l.Lost()
		for end := time.Now().Add(5 * time.Second); !all && len(lost) == 0 && time.Now().Before(end); lost = l.Lost() {
			time.Sleep(time.Millisecond)
		}
		a.mu.Lock()
		if a.facts != batches || a.wrong != "" || a.failed != nil || all != (len(lost) == 0) ||
			!all && (lost[0].Clients != 10 || lost[0].Why != "ended by itself") {
			t.Errorf("all %v: %d of %d facts; %s; %v; lost %+v", all, a.facts, batches, a.wrong, a.failed, lost)
		}
		a.mu.Unlock()
	}
}

// TestGone: a worker hears that its lead is gone.
func TestGone(t *testing.T) {
	l, _, w := pair(t)
	l.Close()
	select {
	case <-w.Context().Done():
		if err := context.Cause(w.Context()); err != ErrLeadGone {
			t.Error(err)
		}
	case <-time.After(5 * time.Second):
		t.Error("it has not noticed")
	}
}
