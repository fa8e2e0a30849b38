// Package language reads trials: files in HCL that end in .trial.hcl. It is the
// only package that knows HCL.
//
// All errors of a file are reported at once, each with its place and, if one
// is near, the word that was probably meant. words.go lists the whole
// vocabulary.
package language

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"

	"tidepull/internal/trial"
	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/jsonscan"
)

//go:embed dialects/*.hcl
var dialects embed.FS

// Options change how a trial is read.
type Options struct {
	Target string            // goes before the target's address in the file
	Set    map[string]string // goes before the defaults of variables
	Kernel bool              // as if the trial said path = "kernel"
	// Read reads the files that a trial names; os.ReadFile if it is nil.
	Read func(path string) ([]byte, error)
}

// Load reads the trial in a file. The error is an *Errors if the trial is
// wrong.
func Load(path string, o Options) (*trial.Trial, error) {
	src, err := ReadFile(path, maxTrialFile)
	if err != nil {
		return nil, fmt.Errorf("reading the trial: %w", err)
	}
	return Parse(src, path, o)
}

// Parse reads a trial from its text; name is the file's in error messages, and
// the files that it names are looked for beside it.
func Parse(src []byte, name string, o Options) (*trial.Trial, error) {
	if o.Read == nil {
		o.Read = func(path string) ([]byte, error) { return ReadFile(path, maxDataFile) }
	}
	source := trial.Source{Name: name, Text: src, Target: o.Target, Set: o.Set, Kernel: o.Kernel,
		Files: map[string][]byte{}}
	read := o.Read
	o.Read = func(path string) ([]byte, error) {
		b, err := read(path)
		if err == nil {
			source.Files[path] = b
		}
		return b, err
	}
	r := &reader{sources: map[string][]byte{}, options: o, sessions: map[string]*session{},
		dialects: map[string]*hcl.Block{}, blocks: map[string][]*hcl.Block{}, secrets: map[string]string{},
		tables: map[string]map[string]int{}, locals: map[string]int{}, imported: map[string]bool{}}
	r.trial.Fields = &jsonscan.Table{}
	if wrong := wrongTarget(o.Target); wrong != "" {
		r.diags = append(r.diags, &hcl.Diagnostic{Severity: hcl.DiagError, Summary: wrong})
		return nil, &Errors{r.diags, r.sources}
	}
	r.readFile(src, name)
	if r.diags.HasErrors() {
		return nil, &Errors{r.diags, r.sources}
	}
	r.trial.NumberSteps()
	r.trial.Source = source
	return &r.trial, nil
}

// Again reads a trial that another process has read. It touches no file.
func Again(s *trial.Source) (*trial.Trial, error) {
	t, err := Parse(s.Text, s.Name, Options{Target: s.Target, Set: s.Set, Kernel: s.Kernel,
		Read: func(path string) ([]byte, error) {
			if b, is := s.Files[path]; is {
				return b, nil
			}
			return nil, fmt.Errorf("%s: %w", path, fs.ErrNotExist)
		}})
	if err == nil {
		t.Reshape(s.Shape)
	}
	return t, err
}

// wrongTarget says what is wrong with an address on the command line; "" if nothing is, or if there is none.
func wrongTarget(address string) string {
	if address == "" {
		return ""
	}
	if _, _, is := strings.Cut(address, "://"); !is {
		return fmt.Sprintf("--target %q has no scheme: write ws://%s, or http://, https://, wss://, tcp://, tls:// "+
			"or udp://",
			address, address)
	}
	if _, err := url.Parse(address); err != nil {
		return fmt.Sprintf("--target %q cannot be read as a URL, such as ws://127.0.0.1:7411/live", address)
	}
	return ""
}

// A reader holds what has been read so far.
type reader struct {
	trial    trial.Trial
	options  Options
	sources  map[string][]byte
	diags    hcl.Diagnostics
	told     *hcl.Attribute // the address of the command line, if something in it is a client's own
	garbled  bool           // the syntax is wrong, so that what seems to be missing may be there
	struck   []hcl.Range    // if it is wrong
	sessions map[string]*session
	dialects map[string]*hcl.Block
	blocks   map[string][]*hcl.Block // of all files, by kind
	main     string                  // the name of the trial's own file
	imported map[string]bool
	vars     hcl.EvalContext
	secrets  map[string]string
	tables   map[string]map[string]int // data: by name and column, the number of the column
	locals   map[string]int            // what sessions remember, by name
	later    []func()                  // what can be read once all sessions are
	captured []string                  // names of what sessions remember that is secret
	figures  *[]string                 // where figures may be used: those that were
}

type session struct {
	*trial.Session
	names hcl.Range
}

// parse parses one file. Its bytes are kept, since errors show the lines they are
// about. A file that is too long is not parsed at all.
func (r *reader) parse(src []byte, name string) hcl.Body {
	r.sources[name] = src
	if len(src) > maxTrialFile {
		at := hcl.Range{Filename: name, Start: hcl.InitialPos, End: hcl.InitialPos}
		r.fail(at, "the file has %d bytes; a trial has at most %d", len(src), maxTrialFile)
		r.garbled = true
		return hcl.EmptyBody()
	}
	if d := tooDeep(src, name); d != nil {
		r.diags, r.garbled = append(r.diags, d), true
		return hcl.EmptyBody()
	}
	body, diags := parseAround(src, name)
	for _, d := range diags {
		r.garbled = true
		r.struck = append(r.struck, *d.Subject)
	}
	r.diags = append(r.diags, diags...)
	return body
}

// maxSyntax bounds the errors of syntax that are looked for in one file.
const maxSyntax = 20

// parseAround parses a file. After an error of syntax it strikes the line out and
// parses again, so that what follows from the error is not reported and the
// errors behind it are.
func parseAround(src []byte, name string) (hcl.Body, hcl.Diagnostics) {
	var all hcl.Diagnostics
	work := slices.Clone(src)
	for range maxSyntax {
		f, diags := hclsyntax.ParseConfig(work, name, hcl.InitialPos)
		first := firstError(diags)
		if first == nil {
			return f.Body, all
		}
		all = append(all, first)
		if !strike(work, first.Subject.Start.Byte) {
			break
		}
	}
	return hcl.EmptyBody(), all
}

func firstError(diags hcl.Diagnostics) *hcl.Diagnostic {
	for _, d := range diags {
		if d.Severity == hcl.DiagError && d.Subject != nil {
			return d
		}
	}
	return nil
}

// strike makes the line of a byte blank, but for the brackets that it opens or
// closes beyond itself; false if it is blank already.
func strike(src []byte, at int) bool {
	at = min(at, max(0, len(src)-1))
	from, to := at, at
	for from > 0 && src[from-1] != '\n' {
		from--
	}
	for to < len(src) && src[to] != '\n' {
		to++
	}
	line := src[from:to]
	if len(bytes.TrimSpace(line)) == 0 {
		return false
	}
	open := bytes.Count(line, []byte("{"))
	if open > bytes.Count(line, []byte("}")) {
		return false // a block begins here: nothing is known of what is in it
	}
	closes := bytes.Count(line, []byte("}")) - open
	for i := range line {
		line[i] = ' '
	}
	for i := 0; i < closes && i < len(line); i++ {
		line[len(line)-1-i] = '}'
	}
	return true
}

// fail reports an error at a place.
func (r *reader) fail(at hcl.Range, format string, a ...any) {
	r.diags = append(r.diags, &hcl.Diagnostic{Severity: hcl.DiagError, Summary: fmt.Sprintf(format, a...),
		Subject: &at})
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
	for _, d := range diags {
		if !r.follows(body, d) {
			r.diags = append(r.diags, d)
		}
	}
	r.checkForms(name, content.Attributes)
	return content
}

// follows reports whether something that is missing in a block may have stood in
// a line that was struck out.
func (r *reader) follows(body hcl.Body, d *hcl.Diagnostic) bool {
	b, ok := body.(*hclsyntax.Body)
	if !ok || d.Summary != "Missing required argument" {
		return false
	}
	for _, s := range r.struck {
		if s.Filename == b.SrcRange.Filename && s.Start.Line >= b.SrcRange.Start.Line &&
			s.Start.Line <= b.SrcRange.End.Line {
			return true
		}
	}
	return false
}

func lastPart(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// readFile reads a whole trial, in the order in which its parts refer to each other:
// values, dialects, the target that picks one, sessions, the steps of which it gives a meaning
// to, crews that follow them.
func (r *reader) readFile(src []byte, name string) {
	r.main = name
	r.collect(src, name, 0)
	end := hcl.Range{Filename: name, Start: hcl.InitialPos, End: hcl.InitialPos}
	r.checkNames()
	r.readVariables()
	r.readSecrets()
	r.readData()
	r.readLocals()
	r.readTrial(r.one("trial", end))
	for _, b := range r.blocks["dialect"] {
		r.dialects[b.Labels[0]] = b
	}
	r.readTarget(r.one("target", end))
	for _, b := range r.blocks["feed"] {
		r.readFeed(b)
	}
	for _, b := range r.blocks["session"] {
		r.readSession(b)
	}
	r.checkRooms()
	for _, name := range r.captured {
		local, known := r.locals[name]
		if !known {
			r.missing(end, "nothing captures the secret %q, or sets it as my.%s", name, name)
			continue
		}
		r.trial.SecretLocals = append(r.trial.SecretLocals, local)
	}
	// What sessions remember (my.x) is known only now: conditions that use it waited.
	for _, f := range r.later {
		f()
	}
	if len(r.blocks["crew"]) == 0 {
		r.missing(end, "the trial has no crew")
	}
	for _, b := range r.blocks["crew"] {
		r.readCrew(b)
	}
	r.readSharedTide(end)
	for _, b := range r.blocks["limit"] {
		r.readLimit(b)
	}
	for _, b := range r.blocks["server"] {
		r.readServer(b)
	}
	for _, b := range r.blocks["fault"] {
		r.readFault(b)
	}
	for _, b := range r.blocks["final_check"] {
		r.readFinalCheck(b)
	}
	for _, b := range r.blocks["on"] {
		r.readAlert(b)
	}
}

// maxImports bounds how deep files take in others.
const maxImports = 16

// collect takes in the blocks of a file and of those that it imports, which
// come first.
func (r *reader) collect(src []byte, name string, depth int) {
	r.imported[name] = true
	content := r.open(r.parse(src, name), "")
	for _, b := range content.Blocks {
		if b.Type != "import" {
			continue
		}
		path := r.beside(name, b.Labels[0])
		switch src, err := r.options.Read(path); {
		case filepath.Clean(path) == filepath.Clean(name):
			r.fail(b.LabelRanges[0], "a file cannot import itself")
		case r.imported[path]: // once is enough, and files may import each other
		case err != nil:
			r.fail(b.LabelRanges[0], "the file cannot be read: %v", reasonOf(err))
		case depth == maxImports:
			r.fail(b.DefRange, "files import each other more than %d deep", maxImports)
		default:
			r.collect(src, path, depth+1)
		}
	}
	for _, b := range content.Blocks {
		r.blocks[b.Type] = append(r.blocks[b.Type], b)
	}
}

// one returns the block of a kind of which a trial has one: the trial's own,
// or an imported one.
func (r *reader) one(kind string, end hcl.Range) *hcl.Block {
	var own, other *hcl.Block
	for _, b := range r.blocks[kind] {
		switch {
		case b.DefRange.Filename != r.main:
			other = b
		case own != nil:
			r.fail(b.DefRange, "there is a second %s; a trial has one", kind)
		default:
			own = b
		}
	}
	if own == nil {
		own = other
	}
	if own == nil {
		r.missing(end, "the trial has no %s", kind)
	}
	return own
}

// Expression compiles an expression by itself: over the client's variables and
// functions, with no message at hand. The error is an *Errors.
func Expression(text string) (*expr.Program, error) {
	r := &reader{sources: map[string][]byte{}}
	r.trial.Fields = &jsonscan.Table{}
	attrs, diags := r.parse([]byte("x = "+text), "expression").JustAttributes()
	r.diags = append(r.diags, diags...)
	var p *expr.Program
	if a := attrs["x"]; a != nil && !r.diags.HasErrors() {
		p, _ = r.compile(a.Expr, false)
	}
	if r.diags.HasErrors() || p == nil {
		return nil, &Errors{r.diags, r.sources}
	}
	return p, nil
}
