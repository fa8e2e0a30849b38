package language

import (
	"maps"
	"regexp"
	"slices"
	"time"

	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/trial"
)

// metricName is how Prometheus names metrics.
var metricName = regexp.MustCompile(`^[a-zA-Z_:][a-zA-Z0-9_:]*$`)

// readServer reads the process of the server under test.
func (r *reader) readServer(b *hcl.Block) {
	a := r.open(b.Body, "server").Attributes
	s := &trial.Server{Command: r.texts(a["command"]), Dir: r.text(a["folder"], ""),
		PID: r.whole(a["pid"], 1, 1<<30, 0), Metrics: r.text(a["metrics"], ""), Ready: r.text(a["ready"], ""),
		Within: r.duration(a["within"], 10*time.Second)}
	if len(s.Command) > 0 && s.PID > 0 || len(s.Command) == 0 && s.PID == 0 && s.Metrics == "" {
		r.fail(b.DefRange, "give the command that starts the server, or the pid of one that runs, or the address of "+
			"its metrics")
	}
	for i, name := range logbook.ServerGauges {
		if s.Gauges[i] = r.text(a[name], ""); s.Gauges[i] != "" && s.Metrics == "" {
			r.fail(a[name].NameRange, "%s is the name of a metric; say on which page it is (metrics)", name)
		} else if given := a[name]; given != nil && !metricName.MatchString(s.Gauges[i]) {
			r.fail(given.Expr.Range(), "%q is no name of a metric, such as harbour_%s; its labels are added up",
				s.Gauges[i], name)
		}
	}
	if wrong := checkAddress(s.Metrics, "http"); s.Metrics != "" && wrong != "" {
		r.fail(a["metrics"].Expr.Range(), "%s", wrong)
	}
	if given := a["ready"]; given != nil && s.PID != 0 {
		r.fail(given.NameRange, "ready is about the output of a command; a server with a pid runs already")
	}
	if r.trial.Server != nil {
		r.fail(b.DefRange, "there is a second server; a trial has one")
	}
	r.trial.Server = s
}

// readFault reads something that the trial breaks on purpose. The tide, the crews and the
// target must have been read.
func (r *reader) readFault(b *hcl.Block) {
	a := r.open(b.Body, "fault").Attributes
	f := trial.Fault{Name: b.Labels[0], Do: trial.FaultKind(r.oneOf(a["do"], trial.FaultKinds...)),
		At: r.durationFrom(0, a["at"], 0), Lasts: r.duration(a["lasts"], 0), Every: r.duration(a["every"], 0),
		Times: r.whole(a["times"], 1, 1<<20, 1), Rude: r.yes(a["rude"]), Reset: r.yes(a["reset"]),
		By: r.duration(a["by"], 0), Jitter: r.duration(a["jitter"], 0),
		Spread: r.oneOf(a["spread"], trial.Spreads...), Rate: r.whole(a["bytes_per_second"], 1, 1<<40, 0),
		Piece: r.whole(a["bytes"], 1, 1<<20, 0), Status: r.whole(a["status"], 400, 599, 503)}
	direction := r.oneOf(a["direction"], "both", "up", "down")
	f.Up, f.Down = direction != 2, direction != 1
	if given := a["chance"]; given != nil {
		f.Chance = r.share(r.text(given, "1%"), given.Expr.Range())
	}
	r.readMoment(&f, b, a)
	r.readWhom(&f, a)
	for _, name := range sortedKeys(a) {
		if given := a[name]; !f.Do.Takes(name) {
			r.fail(given.NameRange, "%s does not go with do = %q", name, f.Do.String())
		}
	}
	r.checkFault(&f, b, a)
	for _, other := range r.trial.Faults {
		if other.Name == f.Name {
			r.fail(b.LabelRanges[0], "there is a fault %q already", f.Name)
		}
	}
	r.trial.Faults = append(r.trial.Faults, f)
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// readMoment reads when a fault happens: at a time, or during a leg of the tide.
func (r *reader) readMoment(f *trial.Fault, b *hcl.Block, a hcl.Attributes) {
	if a["at"] == nil && a["during"] == nil {
		r.fail(b.DefRange, "say when it happens: at, or during")
	}
	if given := a["during"]; given != nil {
		word := []string{"flood", "slack", "ebb"}[r.oneOf(given, "flood", "slack", "ebb")]
		from, over, found := time.Duration(0), time.Duration(0), false
		for _, leg := range r.trial.Tide.Legs {
			if leg.Word == word {
				over, found = leg.Over, true
				break
			}
			from += leg.Over
		}
		if !found {
			r.fail(given.Expr.Range(), "the tide has no %s", word)
		}
		if a["lasts"] == nil && f.Do != trial.CutClients && f.Do != trial.RestartServer {
			f.Lasts = max(0, over-f.At)
		}
		f.At += from
	}
	if given := a["times"]; given != nil && f.Every == 0 {
		r.fail(given.NameRange, "times goes with every: the time from one to the next")
	}
	if f.Every > 0 && f.Every <= f.Lasts {
		r.fail(a["every"].Expr.Range(), "it lasts %v: it cannot happen again every %v", f.Lasts, f.Every)
	}
}

// readWhom reads which clients a fault is about.
func (r *reader) readWhom(f *trial.Fault, a hcl.Attributes) {
	f.Whom = trial.Whom{Share: 1, Crew: -1, Node: -1}
	for _, name := range []string{"share", "crew", "room", "node"} {
		if given := a[name]; given != nil && f.Do.AtServer() {
			r.fail(given.NameRange, "%s goes with what happens to clients; %q happens to the server", name,
				f.Do.String())
		}
	}
	if given := a["share"]; given != nil {
		f.Whom.Share = r.share(r.text(given, "100%"), given.Expr.Range())
	}
	if given := a["crew"]; given != nil {
		name := r.text(given, "")
		var names []string
		for i, c := range r.trial.Crews {
			if names = append(names, c.Name); c.Name == name {
				f.Whom.Crew = i
			}
		}
		if f.Whom.Crew < 0 {
			r.fail(given.Expr.Range(), "there is no crew %q%s", name, nearest(name, names))
		}
	}
	if given := a["node"]; given != nil {
		n := max(1, len(r.trial.Target.Nodes))
		f.Whom.Node = r.whole(given, 0, 1<<20, 0)
		if f.Whom.Node >= n {
			r.fail(given.Expr.Range(), "the target has %d nodes, counted from 0", n)
		}
	}
	f.Whom.Room = r.text(a["room"], "")
}

// checkFault reports what a fault lacks, or cannot do in this trial.
func (r *reader) checkFault(f *trial.Fault, b *hcl.Block, a hcl.Attributes) {
	t := &r.trial.Target
	if name, what := f.Do.Needs(); name != "" && a[name] == nil {
		r.fail(b.DefRange, "do = %q needs %s: %s", f.Do.String(), name, what)
	}
	switch {
	case f.Do == trial.PauseServer && f.Lasts == 0:
		r.fail(b.DefRange, "say how long the server stands still: lasts")
	case f.Do.Datagrams() && !t.HasDatagrams() && !(r.trial.Kernel && f.Do.ByKernel()):
		r.fail(b.DefRange, "no datagrams go to the target: it has no udp and no urgent; with path = \"kernel\" "+
			"in the trial it is packets of TCP")
	case f.Do.Upgrades() && !t.Has(trial.WebSocket):
		r.fail(b.DefRange, "nobody asks for an upgrade: the target has no websocket")
	}
	if s := r.trial.Server; f.Do.AtServer() && (s == nil || len(s.Command) == 0 && s.PID == 0) {
		r.fail(b.DefRange, "the trial has no server { } with a command or a pid whose process could be made to %s",
			f.Do)
	}
	if f.Do == trial.RestartServer && r.trial.Server != nil && r.trial.Server.PID != 0 {
		r.fail(b.DefRange, "a server with a pid can be stopped and paused; to restart one the trial must start it: "+
			"command")
	}
}
