package survey

import (
	"regexp"
	"strings"

	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
)

// inRoom is where a recipe names a room of its own.
var inRoom = regexp.MustCompile(`room\s*= "ROOM[^"\n]*"`)

// HasTrialRooms reports whether the clients of experiments are in the trial's rooms: they are asked for, or which
// room a client is in follows from its path or from nothing.
func (o *Options) HasTrialRooms(t *trial.Trial) bool {
	return o.TrialRooms || t.Dialect.Enter.Send == nil
}

// needsOfOwn says why an experiment cannot be done in rooms, or under names, that are the trial's; "" if it can.
func (r *recipe) needsOfOwn(t *trial.Trial, p *language.Parts, o *Options) string {
	switch {
	case o.HasTrialRooms(t) && p.Room == "" && !r.asItIs:
		return "no session of the trial enters a room: enter { room } would allow it"
	case o.HasTrialRooms(t) && r.ownRooms:
		return "it takes rooms of its own, that nobody has been in: enter { send, confirmed } in the dialect, and no " +
			"--trial-rooms, would allow it"
	case o.TrialNames && p.Crew == "":
		return "the trial has no crew whose names could be taken: a crew would allow it"
	case o.TrialNames && (r.who != "" || r.whole != nil && !r.asItIs):
		return "it takes names of its own: no --trial-names would allow it"
	case o.TrialNames && strings.Contains(r.session, "WHISPER") && p.To == "":
		return "the trial does not say who its whispers are for: to in a whisper step would allow it"
	}
	return ""
}

// unseenIn says why a weakness cannot be seen in the trial's rooms; "" if it can.
func unseenIn(t *trial.Trial, p *language.Parts, o *Options, weakness int) string {
	switch {
	case o.HasTrialRooms(t) && (weakness == 5 || weakness == 27):
		return "the rooms are the trial's, where others may be: enter { send, confirmed } in the dialect, and no " +
			"--trial-rooms, would allow it"
	case o.TrialNames && weakness == 39:
		return "the names are the trial's, and who went may have been of another experiment: no --trial-names would " +
			"allow it"
	case o.HasTrialRooms(t) && weakness == 3 && !strings.Contains(p.Room, "${"):
		return "all are in one room: an enter step that deals them out, such as \"lock-${n % 4}\", would allow it"
	}
	return ""
}

// unjudgedIn are the words of the dialect that are left out, as what they are about would be held against this
// experiment and be of one before it, or of others: who is there, in rooms that are not the survey's own, and who comes
// and goes, under names that are not.
func unjudgedIn(t *trial.Trial, o *Options) (blocks []string) {
	if o.HasTrialRooms(t) {
		blocks = append(blocks, "presence")
	}
	if o.TrialNames {
		blocks = append(blocks, "joined", "gone")
	}
	return blocks
}

// clientsOf is how many clients a crew of the trial has.
func clientsOf(t *trial.Trial, crew string) int {
	for i := range t.Crews {
		if t.Crews[i].Name == crew {
			return t.Crews[i].Clients
		}
	}
	return 0
}
