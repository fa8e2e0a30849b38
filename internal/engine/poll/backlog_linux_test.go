package poll

import "testing"

// TestBlocksAreUsedAgain: pieces come out as they went in, and the blocks that they lie in are used
// again: what flows through a backlog that is never empty takes no more memory.
func TestBlocksAreUsedAgain(t *testing.T) {
	var b backlog
	next, want := byte(0), byte(0)
	put := func() {
		room := b.room()
		for i := range readSize / 2 {
			room[i] = next
		}
		b.addData(1, 1, readSize/2, 5, 5)
		next++
	}
	take := func() {
		p, err := b.take()
		if data := p.data(); err != nil || len(data) != readSize/2 || data[0] != want || data[len(data)-1] != want {
			t.Fatalf("piece %d is % x..., %v", want, p.data()[:4], err)
		}
		want++
	}
	for range 4 {
		put()
	}
	flow := func() {
		for range 4 * blockSize / readSize {
			put()
			take()
		}
	}
	if n := testing.AllocsPerRun(20, flow); n != 0 {
		t.Errorf("%v allocations for 2 MiB", n)
	}
}
