package language

import (
	"strings"
	"testing"
)

// TestBare: each block with no attribute, or a single one, of whatever form, reads or has an
// error; none brings the reader down.
func TestBare(t *testing.T) {
	const rest = `
session "s" { connect {} }
crew "c" {
  clients = 1
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}
`
	in := map[string]string{} // the block that each stands in: the outermost, as some stand in themselves
	for next := []string{""}; len(next) > 0; next = next[1:] {
		for _, inner := range vocabulary[next[0]].blocks {
			if _, known := in[inner]; !known {
				in[inner] = next[0]
				next = append(next, inner)
			}
		}
	}
	parse := func(key, attr string) {
		source, top := attr, key
		for k := key; k != ""; k = in[k] {
			head := k[strings.LastIndexByte(k, '.')+1:]
			if vocabulary[k].label != "" {
				head += ` "x"`
			}
			source, top = head+" {\n"+source+"\n}\n", k
			if k == in[k] {
				break
			}
		}
		source += rest
		if top != "target" {
			source += "target \"t\" { websocket = \"ws://127.0.0.1:1/\" }\n"
		}
		defer func() {
			if p := recover(); p != nil {
				t.Errorf("%v with\n%s", p, source)
			}
		}()
		Parse([]byte(source), "bare.trial.hcl", Options{})
	}
	for path, b := range vocabulary {
		if path == "" {
			continue
		}
		parse(path, "")
		for _, a := range b.attrs {
			for _, value := range []string{`"1s"`, "5", `["a"]`} {
				parse(path, a.name+" = "+value)
			}
		}
	}
}
