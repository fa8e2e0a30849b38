package language

import (
	"time"

	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/trial"
)

// readServer reads the process of the server under test.
func (r *reader) readServer(b *hcl.Block) {
	a := r.open(b.Body, "server").Attributes
	s := &trial.Server{Command: r.texts(a["command"]), Dir: r.text(a["folder"], ""),
		PID: r.whole(a["pid"], 1, 1<<30, 0), Ready: r.text(a["ready"], ""), Within: r.duration(a["within"],
			10*time.Second)}
	if (len(s.Command) == 0) == (s.PID == 0) {
		r.fail(b.DefRange, "give the command that starts the server, or the pid of one that runs")
	}
	if given := a["ready"]; given != nil && s.PID != 0 {
		r.fail(given.NameRange, "ready is about the output of a command; a server with a pid runs already")
	}
	if r.trial.Server != nil {
		r.fail(b.DefRange, "there is a second server; a trial has one")
	}
	r.trial.Server = s
}

// readFault reads something that the trial breaks on purpose.
func (r *reader) readFault(b *hcl.Block) {
	a := r.open(b.Body, "fault").Attributes
	f := trial.Fault{Name: b.Labels[0], Do: trial.FaultKind(r.oneOf(a["do"], trial.FaultKinds...)),
		At: r.duration(a["at"], 0), Lasts: r.duration(a["lasts"], 0), Every: r.duration(a["every"], 0),
		Times: r.whole(a["times"], 1, 1<<20, 1), Rude: r.yes(a["rude"]), Share: 1}
	if given := a["share"]; given != nil {
		if f.Share = r.share(r.text(given, "100%"), given.Expr.Range()); f.Do != trial.CutClients {
			r.fail(given.NameRange, "share goes with do = \"cut\"")
		}
	}
	if given := a["times"]; given != nil && f.Every == 0 {
		r.fail(given.NameRange, "times goes with every: the time from one to the next")
	}
	if given := a["rude"]; given != nil && f.Do != trial.RestartServer && f.Do != trial.StopServer {
		r.fail(given.NameRange, "rude goes with do = \"restart\" or \"stop\"")
	}
	if f.Every > 0 && f.Every <= f.Lasts {
		r.fail(a["every"].Expr.Range(), "it lasts %v: it cannot happen again every %v", f.Lasts, f.Every)
	}
	if f.Do == trial.PauseServer && f.Lasts == 0 {
		r.fail(b.DefRange, "say how long the server stands still: lasts")
	}
	if f.Do.AtServer() && r.trial.Server == nil {
		r.fail(b.DefRange, "the trial has no server { } whose process could be made to %s", f.Do)
	}
	if f.Do == trial.RestartServer && r.trial.Server != nil && r.trial.Server.PID != 0 {
		r.fail(b.DefRange, "a server with a pid can be stopped and paused; to restart one the trial must start it: "+
			"command")
	}
	for _, other := range r.trial.Faults {
		if other.Name == f.Name {
			r.fail(b.LabelRanges[0], "there is a fault %q already", f.Name)
		}
	}
	r.trial.Faults = append(r.trial.Faults, f)
}
