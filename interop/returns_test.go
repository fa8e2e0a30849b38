package interop

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// returned runs a copy of a server's trial that starts the server, has it restart, and cuts
// all connections: everybody must come back, twice, and nothing may be lost that was owed.
func returned(t *testing.T, name string) string {
	source, err := os.ReadFile(filepath.Join(name, name+".trial.hcl"))
	if err != nil {
		t.Fatal(err)
	}
	// who speaks into a break is not counted as the server does
	changed := strings.NewReplacer(`import "../pilots.hcl" {}`, `import "../returning.hcl" {}`,
		`import "../counted.hcl" {}`, "", "times = 6", "times = 20").Replace(string(source))
	if changed == string(source) {
		t.Fatalf("%s does not take in pilots.hcl", name)
	}
	file := filepath.Join(name, "returning.trial.hcl")
	if err := os.WriteFile(file, []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	defer os.Remove(file)
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
	if r.Returns.Broke < 120 || r.Returns.Back != r.Returns.Broke || r.Returns.GaveUp != 0 || l.Owed == 0 ||
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
