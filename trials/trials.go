// Package trials holds the trials that ship with the tool.
package trials

import (
	"embed"
	"io/fs"
	"slices"
	"strings"
)

// ending is how the files of trials end.
const ending = ".trial.hcl"

// DemoName is the file name under which the demo trial is written out.
const DemoName = "morning-tide" + ending

// Demo is the trial that the demo runs against the stand-in.
//
//go:embed morning-tide.trial.hcl
var Demo []byte

//go:embed *.trial.hcl
var all embed.FS

// Names lists the trials that the demo can run, by what stands before their files' ending.
func Names() (names []string) {
	files, _ := fs.Glob(all, "*"+ending) // the pattern is a good one
	for _, f := range files {
		names = append(names, strings.TrimSuffix(f, ending))
	}
	slices.Sort(names)
	return names
}

// Named gives the source of one of Names, and the name of its file; nil if there is none.
func Named(name string) (source []byte, file string) {
	file = name + ending
	source, err := all.ReadFile(file)
	if err != nil {
		return nil, file
	}
	return source, file
}

// Survey is what the demo surveys the stand-in with: all that it promises, in the words that experiments are made of.
//
//go:embed survey/harbour-board.trial.hcl
var Survey []byte

// SurveyName is the name of its file.
const SurveyName = "harbour-board" + ending

// Shapes holds a trial for each shape of server, in shapes/.
//
//go:embed shapes
var Shapes embed.FS
