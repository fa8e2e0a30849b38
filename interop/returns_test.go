package interop

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// variant writes a copy of a server's trial, beside it, in which some texts stand for others.
func variant(t *testing.T, name, kind string, changes ...string) (file string) {
	t.Helper()
	source, err := os.ReadFile(filepath.Join(name, name+".trial.hcl"))
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.NewReplacer(changes...).Replace(string(source))
	if changed == string(source) {
		t.Fatalf("there is nothing to change in the trial of %s", name)
	}
	file = filepath.Join(name, kind+".trial.hcl")
	if err := os.WriteFile(file, []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.Remove(file) })
	return file
}

// returned runs a copy of a server's trial that starts the server, has it restart, and cuts
// all connections: everybody must come back, twice, and nothing may be lost that was owed.
func returned(t *testing.T, name string) string {
	// who speaks into a break is not counted as the server does
	file := variant(t, name, "returning", `import "../pilots.hcl" {}`, `import "../returning.hcl" {}`,
		`import "../counted.hcl" {}`, "", "times = 6", "times = 20")
	here, err := filepath.Abs(name)
	if err != nil {
		t.Fatal(err)
	}
	ports := freePorts(t, 4)
	dir := t.TempDir()
	args := []string{"run", file, "--headless", "--out", dir, "--set", "start=" + filepath.Join(here, "start.sh")}
	for i, variable := range []string{"port", "second_port", "third_port", "fourth_port"} {
		args = append(args, "--set", fmt.Sprintf("%s=%d", variable, ports[i]))
	}
	cmd := tool(t, args...)
	cmd.Env = surroundings(here)
	text, _ := cmd.CombinedOutput()
	var r struct {
		result
		Returns struct {
			Broke, Back int64
			GaveUp      int64 `json:"gave_up"`
		}
		Comebacks []struct {
			Fault string
			Broke int64
			Back  struct {
				Count int64
				P50   float64 `json:"p50_us"`
				Max   float64 `json:"max_us"`
			}
		}
	}
	b, err := os.ReadFile(filepath.Join(dir, "summary.json"))
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err != nil {
		t.Errorf("%v\n%s", err, text)
		return "it could not be restarted"
	}
	l := r.Ledger
	if r.Returns.Broke < 60 || // a server that takes long to begin again has not everybody back by the cut
		r.Returns.Back != r.Returns.Broke || r.Returns.GaveUp != 0 || l.Owed == 0 ||
		l.Lost+l.Duplicate+l.Stray != 0 || !l.Balanced {
		t.Errorf("returned: %s (%s), %+v, %+v\n%s", r.Verdict, r.Why, l, r.Returns, text)
	}
	var words []string
	for _, c := range r.Comebacks {
		words = append(words, fmt.Sprintf("%s: %d of %d in %.1f s, the last %.1f", c.Fault, c.Back.Count, c.Broke,
			c.Back.P50/1e6, c.Back.Max/1e6))
	}
	return fmt.Sprintf("%s; %d lost, %d excused", strings.Join(words, "; "), l.Lost, l.Excused)
}
