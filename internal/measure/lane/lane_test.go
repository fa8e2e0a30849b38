package lane

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"tidepull/internal/measure/ledger"
)

// TestSurroundings: however much happens, what happened around a problem to
// those concerned is kept whole, once each, even if the problem is noticed
// only long after it; and what is kept stays within its bounds.
func TestSurroundings(t *testing.T) {
	const clients = 2000
	rng := rand.New(rand.NewPCG(3, 3))
	r := New(9 * time.Second)
	type problem struct {
		at       time.Duration
		number   uint64
		to, from ledger.Client
	}
	var problems []problem
	happened := map[ledger.Client][]Record{}
	watched := map[ledger.Client]bool{}
	for range 12 {
		p := problem{time.Duration(2+rng.IntN(20)) * time.Second, 0, rng.Int32N(clients), rng.Int32N(clients)}
		problems = append(problems, p)
		watched[p.to], watched[p.from] = true, true
	}
	add := func(rec Record) {
		r.Add(rec)
		if watched[rec.Client] {
			happened[rec.Client] = append(happened[rec.Client], rec)
		}
	}
	got := map[Record]bool{}
	take := func() {
		records, _ := r.Take()
		for _, rec := range records {
			if got[rec] {
				t.Fatalf("kept twice: %+v", rec)
			}
			got[rec] = true
		}
	}
	n, said := uint64(1<<20), uint64(0)
	long := make([]byte, 300)
	for at := time.Duration(0); at < 32*time.Second; at += 200 * time.Microsecond { // 5,000 a second
		n++
		add(Record{At: at, Client: rng.Int32N(clients), Peer: rng.Int32N(clients), What: Got, Number: n})
		if n%10 == 0 { // 1.4 MB in 9 s
			said++
			r.Said(said, long)
		}
		for i := range problems {
			p := &problems[i]
			if at == p.at {
				said++
				p.number = said
				r.Said(p.number, []byte(fmt.Sprintf("message %d", p.number)))
				add(Record{At: at, Client: p.from, Peer: -1, What: Said, Number: p.number})
				// One read gave both: they have the same time.
				add(Record{At: at, Client: p.from, Peer: p.from, What: Got, Number: p.number})
				add(Record{At: at, Client: p.from, Peer: p.from, What: Got, Number: p.number, Fate: ledger.Duplicate})
			}
			if at == p.at+5*time.Second { // the ledger settles it
				r.Lost(Record{At: p.at, Client: p.to, Peer: p.from, Number: p.number})
				r.Problem(p.at, p.number, true, p.to, p.from)
			}
		}
		if at%(250*time.Millisecond) == 0 {
			r.Settle(at)
			take()
		}
	}
	r.Settle(1 << 62)
	take()
	for _, p := range problems {
		for _, c := range []ledger.Client{p.to, p.from} {
			for _, rec := range happened[c] {
				if rec.At >= p.at-around && rec.At <= p.at+around {
					if !got[rec] {
						t.Fatalf("around message %d: %+v is not kept", p.number, rec)
					}
				}
			}
		}
		if !got[Record{At: p.at, Client: p.to, Peer: p.from, What: Lost, Number: p.number}] {
			t.Errorf("that message %d was lost is not kept", p.number)
		}
		if b := r.texts[p.number]; string(b.Text) != fmt.Sprintf("message %d", p.number) {
			t.Errorf("message %d says %q", p.number, b.Text)
		}
	}
	for i := range 30_000 {
		r.Problem(time.Duration(i)*time.Millisecond, uint64(i), false, 1, 2)
		r.Add(Record{At: time.Duration(i) * time.Millisecond, Client: 1, What: Got, Number: uint64(i)})
		r.Settle(time.Duration(i) * time.Millisecond)
	}
	if r.keeps > maxKept || len(r.kept) > r.keeps || r.n/inChunk-r.oldest >= maxChunks || len(r.waiting) > 256 ||
		r.Unkept == 0 {
		t.Errorf("%d kept, %d chunks held, %d wait, %d unkept", r.keeps, r.n/inChunk-r.oldest+1, len(r.waiting),
			r.Unkept)
	}
}

// TestArrange sets three clients side by side, whatever the order in which the
// records come.
func TestArrange(t *testing.T) {
	ms := time.Millisecond
	records := []Record{
		{At: 0, Client: 7, What: SetOut, Peer: -1, Room: -1}, {At: 1 * ms, Client: 7, What: Opened, Peer: -1, Room: -1},
		{At: 2 * ms, Client: 7, What: Entered, Peer: -1, Room: 1},
		{At: 5 * ms, Client: 7, What: Said, Number: 3, Peer: -1, Room: 1},
		{At: 5 * ms, Client: 8, What: Lost, Number: 3, Peer: 7, Room: 1},
		{At: 6 * ms, Client: 9, What: Got, Number: 3, Peer: 7, Room: 1},
		{At: 7 * ms, Client: 9, What: Got, Number: 3, Peer: 7, Room: 1, Fate: ledger.Duplicate},
		{At: 8 * ms, Client: 9, What: Got, Number: 2, Peer: 55, Room: 1},
		{At: 9 * ms, Client: 9, What: Beat, Peer: -1, Room: -1},
		{At: 10 * ms, Client: 7, What: Left, Peer: -1, Room: 1},
		{At: 11 * ms, Client: 7, What: Broke, Peer: -1, Room: -1},
		{At: 12 * ms, Client: 55, What: Said, Number: 9, Peer: -1, Room: 1},
	}
	for range 20 {
		rand.Shuffle(len(records), func(i, k int) { records[i], records[k] = records[k], records[i] })
		text := ""
		for _, r := range Arrange(records, []ledger.Client{7, 8, 9}, Whole, 0, 0) {
			text += fmt.Sprintf("%d %s %d<%d %d; ", r.Rec.At/ms, r.Rec.What, r.Lane, r.From, r.States[0])
		}
		const want = "0 set out 0<-1 0; 1 connected 0<-1 1; 2 entered 0<-1 2; 5 said 0<-1 2; 5 lost 1<0 2; 6 got " +
			"2<0 2; 7 got 2<0 2; 8 got 2<-1 2; 9 beat 2<-1 2; 10 left 0<-1 1; 11 broke 0<-1 0; "
		if text != want {
			t.Fatalf("got  %s\nwant %s", text, want)
		}
		if rows := Arrange(records, []ledger.Client{7, 8, 9}, Odd, 6*ms, 12*ms); len(rows) != 2 ||
			rows[0].Rec.Fate != ledger.Duplicate || rows[1].Rec.What != Broke {
			t.Fatalf("what is odd from 6 to 12 ms: %+v", rows)
		}
		odd := Odds(records)
		if len(odd) != 3 || odd[0].What != Lost {
			t.Fatalf("odd: %+v", odd)
		}
		if around := Around(records, odd[0], 4); !slices.Equal(around, []ledger.Client{7, 8, 9, 55}) {
			t.Fatalf("around the loss: %v", around)
		}
	}
}

// TestWitness: who is shown beside a problem as a witness got the message as it should be; neither its
// sender, nor who got it late, nor somebody to whom something else happened.
func TestWitness(t *testing.T) {
	r := New(time.Minute)
	r.Said(9, []byte("berth 4 is free"))
	for _, rec := range []Record{{What: Said, Client: 1}, {What: Got, Client: 3},
		{What: Got, Client: 4, Fate: ledger.Late}, {What: Got, Client: 5, Fate: ledger.Stray},
		{What: Entered, Client: 6}} {
		rec.Number = 9
		r.Add(rec)
	}
	if seen := r.body(9).seen; seen != 3 {
		t.Errorf("the witness is client %d", seen)
	}
}
