package language

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// Parts are what other trials of the same server can be made of, as text: each is whole blocks of a trial's file.
type Parts struct {
	// Shared is all that is about the server and the trial's data: target, dialect, server, variables, tables and so
	// on.
	Shared string
	// Connect is the first step of that kind in a session; "connect {}" if there is none.
	Connect string
	// Say and Whisper are the first of theirs, without where they go to (room, to); "" if there is none.
	Say, Whisper string
	// History is how many messages of the past are promised to who enters, as the trial writes it; "": it promises
	// none.
	History string
}

// ofExperiments are the blocks of a trial that say what is to be done, and not to which server.
var ofExperiments = map[string]bool{"trial": true, "session": true, "crew": true, "tide": true, "fault": true,
	"limit": true, "on": true, "final_check": true}

// PartsOf takes a trial's file apart, with the files that it imports. It must be one that Parse takes.
func PartsOf(src []byte, name string, files map[string][]byte) (Parts, error) {
	p := Parts{Connect: "connect {}"}
	steps := map[string]string{}
	shared, err := takeApart(src, name, files, steps)
	if err != nil {
		return p, err
	}
	p.Shared, p.Say, p.Whisper = strings.Join(shared, "\n\n"), steps["say"], steps["whisper"]
	p.History = steps["history"]
	if c := steps["connect"]; c != "" {
		p.Connect = c
	}
	return p, nil
}

// takeApart gives the blocks of a file that are shared, and finds the first step of each kind.
func takeApart(src []byte, name string, files map[string][]byte, steps map[string]string) (shared []string, err error) {
	file, diags := hclsyntax.ParseConfig(src, name, hcl.InitialPos)
	if diags.HasErrors() {
		return nil, fmt.Errorf("%s: %w", name, diags)
	}
	for _, b := range file.Body.(*hclsyntax.Body).Blocks {
		switch {
		case b.Type == "import" && len(b.Labels) == 1:
			path := filepath.Join(filepath.Dir(name), b.Labels[0])
			more, err := takeApart(files[path], path, files, steps)
			if err != nil {
				return nil, err
			}
			shared = append(shared, more...)
		case b.Type == "session":
			findSteps(src, b.Body, steps)
		case !ofExperiments[b.Type]:
			shared = append(shared, textOf(src, b))
		}
	}
	return shared, nil
}

// findSteps finds the first step of each kind, in repeats and choices too.
func findSteps(src []byte, body *hclsyntax.Body, steps map[string]string) {
	for _, b := range body.Blocks {
		if a := b.Body.Attributes["history"]; b.Type == "enter" && a != nil && steps["history"] == "" {
			steps["history"] = string(src[a.Expr.Range().Start.Byte:a.Expr.Range().End.Byte])
		}
		if steps[b.Type] == "" {
			switch b.Type {
			case "connect":
				steps[b.Type] = textOf(src, b)
			case "say":
				steps[b.Type] = without(src, b, "room")
			case "whisper":
				steps[b.Type] = without(src, b, "to")
			}
		}
		findSteps(src, b.Body, steps)
	}
}

// textOf is the text of a block.
func textOf(src []byte, b *hclsyntax.Block) string {
	return string(src[b.TypeRange.Start.Byte:b.CloseBraceRange.End.Byte])
}

// without is the inside of a block but for one attribute.
func without(src []byte, b *hclsyntax.Block, attribute string) string {
	from, to := b.OpenBraceRange.End.Byte, b.CloseBraceRange.Start.Byte
	if a := b.Body.Attributes[attribute]; a != nil {
		return string(src[from:a.SrcRange.Start.Byte]) + string(src[a.SrcRange.End.Byte:to])
	}
	return string(src[from:to])
}
