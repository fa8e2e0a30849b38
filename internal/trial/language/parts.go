package language

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/hashicorp/hcl/v2/hclwrite"
	"github.com/zclconf/go-cty/cty"
)

// Parts are what other trials of the same server can be made of, as text: each is whole blocks of a trial's file.
type Parts struct {
	// Room is the room of the first step that enters one, and To who the first whisper is for, as expressions; "" if
	// there is none.
	Room, To string
	// Crew is the first crew's name, but of one that has to be refused, and Name what its clients are called, as an
	// expression; "" if the trial does not say.
	Crew, Name string
	// Connect is the first step of that kind in a session; "connect {}" if there is none.
	Connect string
	// Say and Whisper are the first of theirs, without where they go to (room, to); "" if there is none.
	Say, Whisper string
	// History is how many messages of the past are promised to who enters, as the trial writes it; "": it promises
	// none.
	History string
	// More is Say with the word MoreText where more text can stand in what is said; "" if there is no such place.
	// MoreIsText is set if any text may stand there: a payload in an object, that becomes JSON.
	More       string
	MoreIsText bool
	// Reconnect is the block of the first crew that comes back and is promised what it missed; "" if there is none.
	Reconnect string
	// Doors are the sessions in which something has to be refused, and their crews; "" if there are none.
	Doors string
	// Restart is the request step of that name, which has the server begin anew; Goodbye is the first step that
	// waits for the server's close; SlowReader is the first that reads slowly until it is closed for it; "" if there is
	// none.
	Restart, Goodbye, SlowReader string

	shared []sharedBlock
	set    map[string]string
}

// Set has variables have other defaults, as --set gives them: what is made of the parts then runs without it.
func (p *Parts) Set(values map[string]string) { p.set = values }

// A sharedBlock is one that is about the server or the trial's data: target, dialect, server, variables, tables and so
// on.
type sharedBlock struct {
	src []byte // of its file
	*hclsyntax.Block
}

// Shared are the blocks that are about the server and the trial's data, with their dialects but for some kinds of inner
// blocks.
func (p *Parts) Shared(without ...string) string {
	var all []string
	for _, b := range p.shared {
		text, from := "", b.TypeRange.Start.Byte
		if value, is := p.setOf(b); is {
			at := b.Body.Attributes["default"].Expr.Range()
			text, from = string(b.src[from:at.Start.Byte])+value, at.End.Byte
		}
		for _, inner := range b.Body.Blocks {
			if b.Type == "dialect" && slices.Contains(without, inner.Type) {
				text += string(b.src[from:inner.TypeRange.Start.Byte])
				from = inner.CloseBraceRange.End.Byte
			}
		}
		all = append(all, text+string(b.src[from:b.CloseBraceRange.End.Byte]))
	}
	return strings.Join(all, "\n\n")
}

// setOf is what a variable is set to, as an expression of its default's type; false if it is none, or not set.
func (p *Parts) setOf(b sharedBlock) (string, bool) {
	if b.Type != "variable" || len(b.Labels) != 1 || b.Body.Attributes["default"] == nil {
		return "", false
	}
	value, is := p.set[b.Labels[0]]
	if v, _ := b.Body.Attributes["default"].Expr.Value(nil); is && v.Type() == cty.String {
		value = string(hclwrite.TokensForValue(cty.StringVal(value)).Bytes())
	}
	return value, is
}

// MoreText stands in Parts.More where more text can.
const MoreText = "MORE_TEXT"

// ofExperiments are the blocks of a trial that say what is to be done, and not to which server.
var ofExperiments = map[string]bool{"trial": true, "session": true, "crew": true, "tide": true, "fault": true,
	"limit": true, "on": true, "final_check": true}

// PartsOf takes a trial's file apart, with the files that it imports. It must be one that Parse takes.
func PartsOf(src []byte, name string, files map[string][]byte) (Parts, error) {
	var p Parts
	err := p.takeApart(src, name, files)
	p.Connect = cmp.Or(p.Connect, "connect {}")
	return p, err
}

// takeApart finds the blocks of a file that are shared, and the first step of each kind.
func (p *Parts) takeApart(src []byte, name string, files map[string][]byte) error {
	file, diags := hclsyntax.ParseConfig(src, name, hcl.InitialPos)
	if diags.HasErrors() {
		return fmt.Errorf("%s: %w", name, diags)
	}
	blocks := file.Body.(*hclsyntax.Body).Blocks
	doors := map[string]bool{} // the names of sessions
	for _, b := range blocks {
		if b.Type == "session" && len(b.Labels) == 1 && refuses(b.Body) {
			doors[b.Labels[0]] = true
			p.Doors += textOf(src, b) + "\n\n"
		}
	}
	for _, b := range blocks {
		switch {
		case b.Type == "import" && len(b.Labels) == 1:
			path := filepath.Join(filepath.Dir(name), b.Labels[0])
			if err := p.takeApart(files[path], path, files); err != nil {
				return err
			}
		case b.Type == "session":
			p.findSteps(src, b.Body)
		case b.Type == "crew":
			if a := b.Body.Attributes["session"]; a != nil && doors[sessionNamed(a.Expr)] {
				p.Doors += textOf(src, b) + "\n\n"
			} else if p.Crew == "" && len(b.Labels) == 1 {
				p.Crew, p.Name = b.Labels[0], valueOf(src, b, "name")
			}
			for _, inner := range b.Body.Blocks {
				if inner.Type == "reconnect" && inner.Body.Attributes["catch_up"] != nil && p.Reconnect == "" {
					p.Reconnect = textOf(src, inner)
				}
			}
		case !ofExperiments[b.Type]:
			p.shared = append(p.shared, sharedBlock{src, b})
		}
	}
	return nil
}

// findSteps finds the first step of each kind, in repeats and choices too.
func (p *Parts) findSteps(src []byte, body *hclsyntax.Body) {
	for _, b := range body.Blocks {
		a := b.Body.Attributes
		switch {
		case b.Type == "connect" && p.Connect == "":
			p.Connect = textOf(src, b)
		case b.Type == "enter":
			p.Room = cmp.Or(p.Room, valueOf(src, b, "room"))
			p.History = cmp.Or(p.History, valueOf(src, b, "history"))
		case b.Type == "say" && p.Say == "":
			p.Say = without(src, b, "room")
			p.More, p.MoreIsText = withMore(src, b)
		case b.Type == "whisper" && p.Whisper == "":
			p.Whisper, p.To = without(src, b, "to"), valueOf(src, b, "to")
		case b.Type == "expect_close" && p.Goodbye == "":
			p.Goodbye = textOf(src, b)
		case b.Type == "read_slowly" && a["evicted_within"] != nil && p.SlowReader == "":
			p.SlowReader = textOf(src, b)
		case b.Type == "request" && len(b.Labels) == 1 && b.Labels[0] == "restart" && p.Restart == "":
			p.Restart = textOf(src, b)
		}
		p.findSteps(src, b.Body)
	}
}

// textOf is the text of a block.
func textOf(src []byte, b *hclsyntax.Block) string {
	return string(src[b.TypeRange.Start.Byte:b.CloseBraceRange.End.Byte])
}

// valueOf is the text of an attribute's value; "" if it is not there.
func valueOf(src []byte, b *hclsyntax.Block, attribute string) string {
	a := b.Body.Attributes[attribute]
	if a == nil {
		return ""
	}
	at := a.Expr.Range()
	return string(src[at.Start.Byte:at.End.Byte])
}

// without is the inside of a block but for one attribute.
func without(src []byte, b *hclsyntax.Block, attribute string) string {
	from, to := b.OpenBraceRange.End.Byte, b.CloseBraceRange.Start.Byte
	if a := b.Body.Attributes[attribute]; a != nil {
		return string(src[from:a.SrcRange.Start.Byte]) + string(src[a.SrcRange.End.Byte:to])
	}
	return string(src[from:to])
}

// refuses reports whether a session has a step that the server must refuse.
func refuses(body *hclsyntax.Body) bool {
	for _, b := range body.Blocks {
		a := b.Body.Attributes
		switch {
		case b.Type == "connect" && a["refused"] != nil, b.Type == "enter" && a["denied"] != nil,
			b.Type == "say" && a["refused"] != nil, b.Type == "connect" && a["early"] != nil, refuses(b.Body):
			return true
		case b.Type == "request" && a["status"] != nil:
			if v, diags := a["status"].Expr.Value(nil); !diags.HasErrors() && v.Type() == cty.Number {
				if n, _ := v.AsBigFloat().Int64(); n == 401 || n == 403 {
					return true
				}
			}
		}
	}
	return false
}

// sessionNamed is the name of the session that an expression stands for: session.NAME, or session["NAME"].
func sessionNamed(e hclsyntax.Expression) string {
	t, diags := hcl.AbsTraversalForExpr(e)
	if diags.HasErrors() || len(t) != 2 || t.RootName() != "session" {
		return ""
	}
	switch step := t[1].(type) {
	case hcl.TraverseAttr:
		return step.Name
	case hcl.TraverseIndex:
		if step.Key.Type() == cty.String {
			return step.Key.AsString()
		}
	}
	return ""
}

// withMore is the inside of a say block, but for its room, with MoreText where more text can stand: at the end of its
// payload, or behind a mark that stands among words. isText reports whether that may be any text.
func withMore(src []byte, b *hclsyntax.Block) (more string, isText bool) {
	body, payload := b.Body.Attributes["body"], b.Body.Attributes["payload"]
	at := -1
	switch {
	case body == nil || b.Body.Attributes["binary"] != nil:
	case payload != nil:
		if t, is := payload.Expr.(*hclsyntax.TemplateExpr); is && src[t.Range().Start.Byte] == '"' {
			at = t.Range().End.Byte - 1
			_, isText = body.Expr.(*hclsyntax.ObjectConsExpr)
		}
	default:
		at = behindMark(src, body.Expr)
	}
	if at < 0 {
		return "", false
	}
	text := without(src[:b.CloseBraceRange.Start.Byte+1], b, "room")
	// The place is counted from the end, as what is left out may stand before it.
	back := b.CloseBraceRange.Start.Byte - at
	if a := b.Body.Attributes["room"]; a != nil && a.SrcRange.Start.Byte > at {
		back -= a.SrcRange.End.Byte - a.SrcRange.Start.Byte
	}
	return text[:len(text)-back] + " " + MoreText + text[len(text)-back:], isText
}

// behindMark is the place behind ${mark} in a text with words around it; -1 if there is none.
func behindMark(src []byte, e hclsyntax.Expression) int {
	for _, t := range hclsyntax.Variables(e) {
		at := t.SourceRange().End.Byte
		if from := t.SourceRange().Start.Byte; t.RootName() == "mark" && from >= 3 && at+1 < len(src) &&
			string(src[from-2:from]) == "${" && src[at] == '}' && (src[from-3] == ' ' || src[at+1] == ' ') {
			return at + 1
		}
	}
	return -1
}
