package traffic

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"tidepull/internal/trial"
)

// A kernel understands the commands as tc(8) does, strictly: what is added must not be there, and
// what is taken away must be.
type kernel struct {
	t       *testing.T
	classes map[string]string // by number: the queue under it
	filters map[string]string // by handle and protocol: port and class
}

var (
	classAdd = regexp.MustCompile(`^class add dev lo parent 1: classid (\S+) htb rate (\S+) burst \S+ cburst \S+ ` +
		`quantum \d+$`)
	queueAdd  = regexp.MustCompile(`^qdisc add dev lo parent (1:\S+) (.+)$`)
	classDel  = regexp.MustCompile(`^class del dev lo classid (\S+)$`)
	filterAdd = regexp.MustCompile(`^filter add dev lo parent 1: prio \d protocol (\S+) handle (\S+):(\S+):(\S+) ` +
		`u32 ht (\S+):(\S+): match u16 0x(\S+) 0xffff at (\d+) flowid (\S+)$`)
	filterDel = regexp.MustCompile(`^filter del dev lo parent 1: prio \d protocol (\S+) handle (\S+) u32$`)
)

func (k *kernel) take(commands string) {
	for line := range strings.Lines(commands) {
		line = strings.TrimSpace(line)
		if m := classAdd.FindStringSubmatch(line); m != nil {
			if k.classes[m[1]] != "" {
				k.t.Fatalf("%s is there already", line)
			}
			k.classes[m[1]] = m[2]
		} else if m := queueAdd.FindStringSubmatch(line); m != nil {
			k.classes[m[1]] += " " + m[2]
		} else if m := classDel.FindStringSubmatch(line); m != nil {
			for _, f := range k.filters {
				if strings.HasSuffix(f, " "+m[1]) {
					k.t.Fatalf("%s, which a filter leads to", line)
				}
			}
			if k.classes[m[1]] == "" {
				k.t.Fatalf("%s is not there", line)
			}
			delete(k.classes, m[1])
		} else if m := filterAdd.FindStringSubmatch(line); m != nil {
			port, _ := strconv.ParseUint(m[7], 16, 16)
			key := m[2] + ":" + m[3] + ":" + m[4] + " " + m[1]
			at := map[string]int{"ip": 20, "ipv6": 40}[m[1]]
			if k.filters[key] != "" || m[2] != m[5] || m[3] != m[6] || m[3] != fmt.Sprintf("%x", port&0xff) ||
				m[8] != strconv.Itoa(at) && m[8] != strconv.Itoa(at+2) || k.classes[m[9]] == "" {
				k.t.Fatalf("%s, with %q there, and the class %q", line, k.filters[key], k.classes[m[9]])
			}
			k.filters[key] = fmt.Sprintf("%s %d %s", map[bool]string{true: "up", false: "down"}[m[8] ==
				strconv.Itoa(at)],
				port, m[9])
		} else if m := filterDel.FindStringSubmatch(line); m != nil {
			if k.filters[m[2]+" "+m[1]] == "" {
				k.t.Fatalf("%s is not there", line)
			}
			delete(k.filters, m[2]+" "+m[1])
		} else {
			k.t.Fatalf("what is %q?", line)
		}
	}
}

// TestTrees: whatever happens to lines one after the other, each has what it is to have at the end,
// over both versions of IP; nobody else has, and nothing is left once nobody has anything.
func TestTrees(t *testing.T) {
	ways := []trial.Way{{}, {Frozen: true}, {Delay: 20 * time.Millisecond}, {Rate: 1000}, {Rate: 1000, Lose: 0.1},
		{Delay: time.Second, Jitter: 5 * time.Millisecond, Spread: trial.Normal, Lose: 0.5}, {Reorder: 0.25}}
	r := rand.New(rand.NewPCG(1, 2))
	k := &kernel{t: t, classes: map[string]string{}, filters: map[string]string{}}
	trees := [2]*tree{newTree("lo", false), newTree("lo", true)}
	want := [2]map[uint16]trial.Way{{}, {}}
	for range 4000 {
		dir, port, way := r.IntN(2), uint16(32768+r.IntN(700)), ways[r.IntN(len(ways))]
		var b bytes.Buffer
		trees[dir].set(&b, port, way)
		k.take(b.String())
		if want[dir][port] = way; way == (trial.Way{}) {
			delete(want[dir], port)
		}
	}
	found := map[string]int{}
	for _, f := range k.filters {
		var dir, class string
		var port int
		fmt.Sscanf(f, "%s %d %s", &dir, &port, &class)
		way, has := want[map[string]int{"up": up, "down": down}[dir]][uint16(port)]
		rate := "100gbit"
		if way.Rate > 0 {
			rate = fmt.Sprintf("%dbps", way.Rate)
		}
		if !has || k.classes[class] != rate+" "+queueOf(&way) {
			t.Fatalf("%s has %q, and should have %+v", f, k.classes[class], way)
		}
		found[dir]++
		if way.Rate > 0 { // which is each line's own
			found[class]++
		}
	}
	if found["up"] != 2*len(want[up]) || found["down"] != 2*len(want[down]) {
		t.Errorf("%v filters for %d and %d lines", found, len(want[up]), len(want[down]))
	}
	for class, n := range found {
		if strings.HasPrefix(class, "1:") && n != 2 {
			t.Errorf("%d filters lead to %s, whose bandwidth is a single line's", n, class)
		}
	}
	for dir := range want {
		for port := range maps.Clone(want[dir]) {
			var b bytes.Buffer
			trees[dir].set(&b, port, trial.Way{})
			k.take(b.String())
		}
	}
	if len(k.classes)+len(k.filters) != 0 {
		t.Errorf("left: %v %v", k.classes, k.filters)
	}
}

// TestQueues: what happens on a way, in tc's words.
func TestQueues(t *testing.T) {
	for want, w := range map[string]trial.Way{
		"pfifo limit 0":                   {Frozen: true, Delay: time.Second},
		"pfifo limit 100000":              {Rate: 5},
		"netem limit 100000 delay 1500us": {Delay: 1500 * time.Microsecond},
		"netem limit 100000 delay 2000us 1000us distribution tidepull-exponential loss 12.5%": {
			Delay:  2 * time.Millisecond,
			Jitter: time.Millisecond, Spread: trial.Exponential, Lose: 0.125},
		"netem limit 100000 loss 2% corrupt 1%":        {Corrupt: 0.01, Lose: 0.02},
		"netem limit 100000 delay 50000us reorder 75%": {Reorder: 0.25},
		"netem limit 100000 delay 7000us reorder 25%":  {Reorder: 0.25, Delay: 7 * time.Millisecond},
		"netem limit 100000 delay 0us 3000us":          {Jitter: 3 * time.Millisecond},
	} {
		if got := queueOf(&w); got != want {
			t.Errorf("%+v: %q, not %q", w, got, want)
		}
	}
	// the tables of spreads have the mean and the deviation that they should
	for _, c := range []struct {
		of              func(float64) float64
		mean, deviation float64
	}{{normalShare, 0, 1}, {exponentialShare, 1, 1}} {
		sum, squares, n := 0.0, 0.0, 0.0
		for _, f := range strings.Fields(string(spreadTable(c.of))) {
			v, err := strconv.Atoi(f)
			if err != nil {
				t.Fatal(err)
			}
			x := float64(v) / 8192
			sum, squares, n = sum+x, squares+x*x, n+1
		}
		mean := sum / n
		if n != 4096 || math.Abs(mean-c.mean) > 0.03 || math.Abs(math.Sqrt(squares/n-mean*mean)-c.deviation) > 0.08 {
			t.Errorf("%v values, mean %v, deviation %v", n, mean, math.Sqrt(squares/n-mean*mean))
		}
	}
}

// TestWrongOf: a warning of tc's is no error, and what else it says is, however it ends.
func TestWrongOf(t *testing.T) {
	for said, want := range map[string]string{"": "", "Warning: sch_htb: quantum is big.\n": "",
		"Warning: so\nError: no such device\n": "tc: Error: no such device (<nil>)"} {
		if err := wrongOf(said, nil); (err == nil) != (want == "") || err != nil && err.Error() != want {
			t.Errorf("%q: %v", said, err)
		}
	}
	if err := wrongOf("", errors.New("exit status 2")); err == nil {
		t.Error("it ended badly, and said nothing")
	}
}
