package sim_test

import (
	"math"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial"
	"tidepull/internal/trial/language"
	"tidepull/trials"
)

// aside is a session with all that may stand around what a client says.
const aside = `
  when {
    that = n % 3 == 0
    pause { lasts = "1s" }
  }
  otherwise {
    pause { lasts = "2s" }
  }
  repeat {
    every = "500ms"
    times = 6
    choose {
      option {
        weight = 3
        say { body = { kind = "notice", room = room, text = "${name} passes the outer mark ${mark}" } }
      }
      option {
        whisper {
          to   = "pilots-${(n + 1) % 6}"
          body = { kind = "whisper", to = to, text = "behind you ${mark}" }
        }
      }
    }
    repeat {
      every = "100ms"
      times = 2
      say { body = { kind = "notice", room = room, text = mark } }
    }
  }
  stay {}`

// TestLikenessOwes: the likeness of a trial owes as much as the trial does, in rooms of the same sizes.
func TestLikenessOwes(t *testing.T) {
	for name, source := range map[string]string{"demo": string(trials.Demo), "aside": harbour(aside)} {
		tr, err := language.Parse([]byte(source), "sim.trial.hcl", language.Options{})
		if err != nil {
			t.Fatal(err)
		}
		like, err := trial.Like(tr, "127.0.0.1:7411")
		if err != nil {
			t.Fatal(err)
		}
		got, err := language.Again(&like.Source)
		if err != nil {
			t.Fatalf("%v\n%s", err, like.Source.Text)
		}
		got.Tide = tr.Tide
		for i := range got.Crews {
			got.Crews[i].Tide = tr.Crews[i].Tide
		}
		is, was := playTrial(t, got, standin.Config{}, board.Switches{}).window, playTrial(t, tr, standin.Config{},
			board.Switches{}).window
		if is.Imbalance() != "" || is.Total.Lost+is.Total.Stray > 0 || is.Counts.Unknown > 0 ||
			math.Abs(float64(is.Total.Owed)/float64(was.Total.Owed)-1) > 0.05 ||
			math.Abs(float64(is.Total.Said)/float64(was.Total.Said)-1) > 0.05 {
			t.Errorf("%s: %+v, and of the trial itself %+v\n%s", name, is.Total, was.Total, like.Source.Text)
		}
		if a, b := float64(is.Counts.Bytes), float64(was.Counts.Bytes); math.Abs(a/b-1) > 0.15 {
			t.Errorf("%s: %g bytes, and of the trial itself %g", name, a, b)
		}
	}
}
