package language

import (
	"time"

	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/trial"
)

// readSharedTide reads the tide of the crews that have none of their own.
func (r *reader) readSharedTide(end hcl.Range) {
	needed, clients := len(r.trial.Crews) == 0, 0
	for _, c := range r.trial.Crews {
		if len(c.Tide.Legs) == 0 {
			needed = true
			clients += c.Clients
		}
	}
	if len(r.blocks["tide"]) == 0 && !needed {
		return
	}
	if b := r.one("tide", end); b != nil {
		r.trial.Tide = r.readTide(b, clients)
	}
}

// maxLegs bounds what steps and waves become.
const maxLegs = 10_000

// readTide reads a tide of so many clients.
func (r *reader) readTide(b *hcl.Block, clients int) (t trial.Tide) {
	level := 0.0
	add := func(word string, to float64, over time.Duration) {
		if len(t.Legs) < maxLegs {
			t.Legs = append(t.Legs, trial.Leg{Word: word, To: to, Over: over})
		}
		level = to
	}
	// stairs goes to a level in steps, or steadily.
	stairs := func(word string, to float64, over time.Duration, steps int) {
		if steps <= 1 {
			add(word, to, over)
			return
		}
		from := level
		for i := range steps {
			add(word, from+(to-from)*float64(i+1)/float64(steps), 0)
			add(word, level, over/time.Duration(steps))
		}
	}
	for _, leg := range r.open(b.Body, "tide").Blocks {
		a := r.open(leg.Body, leg.Type).Attributes
		before := level
		switch leg.Type {
		case "flood":
			to := r.share(leg.Labels[0], leg.LabelRanges[0])
			over := r.duration(a["over"], time.Second)
			switch {
			case a["over"] != nil && a["arrivals"] != nil, a["over"] == nil && a["arrivals"] == nil:
				r.missing(leg.DefRange, "give one of over and arrivals")
			case a["arrivals"] != nil:
				over = time.Duration((to - before) * float64(clients) * float64(r.interval(a["arrivals"])))
			}
			if to <= before {
				r.fail(leg.LabelRanges[0], "a flood rises; it is at %.4g %% already", before*100)
			}
			stairs("flood", to, max(over, 1), r.whole(a["steps"], 1, 1000, 1))
		case "slack":
			add("slack", level, r.duration(a["lasts"], time.Second))
		case "ebb":
			to := 0.0
			if a["to"] != nil {
				to = r.share(r.text(a["to"], "0%"), a["to"].Expr.Range())
			}
			if a["over"] == nil {
				r.missing(leg.DefRange, "an ebb needs over")
			}
			if to >= before {
				r.fail(leg.DefRange, "an ebb falls; it is at %.4g %% already", before*100)
			}
			stairs("ebb", to, r.duration(a["over"], time.Second), r.whole(a["steps"], 1, 1000, 1))
		case "wave":
			low, period := level, r.duration(a["period"], time.Second)
			if a["to"] != nil {
				low = r.share(r.text(a["to"], "0%"), a["to"].Expr.Range())
			}
			if low >= before {
				r.fail(leg.DefRange, "a wave falls first; it is at %.4g %% already", before*100)
			}
			for range r.whole(a["times"], 1, 1000, 1) {
				add("ebb", low, period/2)
				add("flood", before, period/2)
			}
		case "spike":
			to := r.share(leg.Labels[0], leg.LabelRanges[0])
			if to <= before {
				r.fail(leg.LabelRanges[0], "a spike rises; it is at %.4g %% already", before*100)
			}
			add("flood", to, 0)
			add("slack", to, r.duration(a["lasts"], time.Second))
			add("ebb", before, 0)
		}
	}
	if len(t.Legs) == 0 {
		r.missing(b.DefRange, "the tide has no flood")
	}
	whole := time.Duration(0)
	for _, leg := range t.Legs {
		if whole += leg.Over; whole > longest {
			r.fail(b.DefRange, "the tide lasts longer than %v", longest)
			return trial.Tide{}
		}
	}
	return t
}
