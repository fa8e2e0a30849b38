package sim_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"tidepull/internal/standin"
	"tidepull/internal/standin/board"
	"tidepull/internal/trial/language"
)

// elsewhere are the recipes that need more than the stand-in in virtual time: a log-in, a process, a second node.
var elsewhere = regexp.MustCompile(`^trial "(log in|guests|restart|nodes|silent|truth|feed)"`)

// TestRecipes reads every recipe, and runs them: nothing is wrong with what is owed.
func TestRecipes(t *testing.T) {
	t.Setenv("HARBOUR_PASSWORD", "made up")
	doc, err := os.ReadFile("../../../docs/recipes.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)```hcl\n(.*?)```").FindAllSubmatch(doc, -1)
	if len(blocks) < 21 {
		t.Fatalf("%d recipes", len(blocks)-1)
	}
	base := blocks[0][1]
	read := func(string) ([]byte, error) { return base, nil }
	for _, b := range blocks[1:] {
		source := string(b[1])
		name := regexp.MustCompile(`^trial "([^"]+)"`).FindStringSubmatch(source)[1]
		tr, err := language.Parse([]byte(source), name+".trial.hcl", language.Options{Read: read})
		if err != nil {
			t.Errorf("%s\n%v", name, err)
			continue
		}
		if formatted, err := language.Format(b[1], name); err != nil || string(formatted) != source {
			t.Errorf("%s is not laid out in the usual way: %v\n%s", name, err, formatted)
		}
		if elsewhere.MatchString(source) {
			continue
		}
		p := playTrial(t, tr, standin.Config{}, board.Switches{})
		l, c := &p.window.Total, &p.window.Counts
		owes := strings.Contains(source, "say {") || strings.Contains(source, "whisper {") ||
			strings.Contains(source, "reaches ")
		if (l.Owed > 0) != owes || l.Lost+l.Late+l.Stray+l.Duplicate+l.Defects() != 0 ||
			c.Refused+c.Denied+c.Malformed+c.Missed+c.Unknown != 0 || p.window.ChecksFailed() != 0 ||
			p.window.Imbalance() != "" || c.Broken != 0 {
			t.Errorf("%s: %+v\n%d failed checks\n%v", name, l, p.window.ChecksFailed(), p.reasons)
		}
	}
}
