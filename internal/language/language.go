// Package language reads trials: files in HCL that end in .trial.hcl. It is the
// only package that knows HCL.
//
// All errors of a file are reported at once, each with its place and, where one
// is near, the word that was probably meant. words.go lists the whole
// vocabulary.
package language

import (
	"embed"
	"fmt"
	"os"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"tidepull/internal/trial"
	"tidepull/internal/wire/jsonscan"
)

//go:embed dialects/*.hcl
var dialects embed.FS

// Options change how a trial is read.
type Options struct {
	Target string // goes before the target's address in the file
}

// Load reads the trial in a file. The error is an *Errors where the trial is
// wrong.
func Load(path string, o Options) (*trial.Trial, error) {
	src, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the trial: %w", err)
	}
	return Parse(src, path, o)
}

// Parse reads a trial from its text; name is the file's in error messages.
func Parse(src []byte, name string, o Options) (*trial.Trial, error) {
	r := &reader{sources: map[string][]byte{}, options: o, sessions: map[string]*session{}, dialects: map[string]*hcl.Block{}}
	r.trial.Fields = &jsonscan.Table{}
	r.readFile(src, name)
	if r.diags.HasErrors() {
		return nil, &Errors{r.diags, r.sources}
	}
	return &r.trial, nil
}

// A reader holds what has been read so far.
type reader struct {
	trial    trial.Trial
	options  Options
	sources  map[string][]byte
	diags    hcl.Diagnostics
	garbled  bool // the syntax is wrong, so that what seems to be missing may be there
	sessions map[string]*session
	dialects map[string]*hcl.Block
}

type session struct {
	*trial.Session
	names hcl.Range
}

func (r *reader) parse(src []byte, name string) hcl.Body {
	r.sources[name] = src
	f, diags := hclsyntax.ParseConfig(src, name, hcl.InitialPos)
	r.diags = append(r.diags, diags...)
	r.garbled = r.garbled || diags.HasErrors()
	if f == nil {
		return hcl.EmptyBody()
	}
	return f.Body
}

// fail reports an error at a place.
func (r *reader) fail(at hcl.Range, format string, a ...any) {
	r.diags = append(r.diags, &hcl.Diagnostic{Severity: hcl.DiagError, Summary: fmt.Sprintf(format, a...), Subject: &at})
}

// missing reports that something is not there, unless the syntax is to blame.
func (r *reader) missing(at hcl.Range, format string, a ...any) {
	if !r.garbled {
		r.fail(at, format, a...)
	}
}

// open reads a body by the vocabulary's entry for its block.
func (r *reader) open(body hcl.Body, name string) *hcl.BodyContent {
	content, diags := body.Content(vocabulary[name].schema())
	r.diags = append(r.diags, diags...)
	return content
}

func lastPart(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

func (r *reader) readFile(src []byte, name string) {
	content := r.open(r.parse(src, name), "")
	blocks := map[string][]*hcl.Block{}
	for _, b := range content.Blocks {
		blocks[b.Type] = append(blocks[b.Type], b)
	}
	end := hcl.Range{Filename: name, Start: hcl.InitialPos, End: hcl.InitialPos}
	one := func(kind string) *hcl.Block {
		for i, b := range blocks[kind] {
			if i > 0 {
				r.fail(b.DefRange, "there is a second %s; a trial has one", kind)
			}
		}
		if len(blocks[kind]) == 0 {
			r.missing(end, "the trial has no %s", kind)
			return nil
		}
		return blocks[kind][0]
	}
	r.readTrial(one("trial"))
	for _, b := range blocks["dialect"] {
		r.dialects[b.Labels[0]] = b
	}
	r.readTarget(one("target"))
	for _, b := range blocks["session"] {
		r.readSession(b)
	}
	if len(blocks["crew"]) == 0 {
		r.missing(end, "the trial has no crew")
	}
	for _, b := range blocks["crew"] {
		r.readCrew(b)
	}
	r.readTide(one("tide"))
	for _, b := range blocks["limit"] {
		r.readLimit(b)
	}
}
