// Package expr evaluates the conditions and templates of a trial. They are
// compiled once to a flat program for a small stack machine; evaluating one
// walks no syntax tree and does not allocate.
//
// The package knows nothing of the trial language's syntax: language builds
// the programs with a Builder.
package expr

import (
	"bytes"
	"math"
	"math/rand/v2"
	"strconv"

	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/jsonscan"
)

// Kind is the type of a Value.
type Kind uint8

// The kinds of a Value. A field that the message does not have is Missing, and
// equals only null.
const (
	Missing Kind = iota
	Bool
	Number
	String
	JSON // an array or object, as its text
)

// A Value is what an expression gives. Str is borrowed: it is valid until the
// next evaluation with the same Scope.
type Value struct {
	Kind Kind
	Num  float64 // of a Number; 1 or 0 of a Bool
	Str  []byte  // of a String or JSON
}

// Num makes a number.
func Num(f float64) Value { return Value{Kind: Number, Num: f} }

// Str makes a string.
func Str(s string) Value { return Value{Kind: String, Str: []byte(s)} }

// Truth makes a bool.
func Truth(b bool) Value {
	if b {
		return Value{Kind: Bool, Num: 1}
	}
	return Value{Kind: Bool}
}

// maxWhole is up to where every whole number has a float64 of its own.
const maxWhole = 1 << 53

// Int gives a number that came from anywhere, a server among them, as a whole
// one; ok is false for what is none, has a fraction, or is so large that it
// cannot be distinguished from its neighbours.
func (v Value) Int() (n int64, ok bool) {
	if v.Kind != Number || v.Num != math.Trunc(v.Num) || math.Abs(v.Num) > maxWhole {
		return 0, false
	}
	return int64(v.Num), true
}

// upTo gives a number as one from 0 to most, without its fraction; 0 for what is
// none.
func (v Value) upTo(most int) int {
	if v.Kind != Number || !(v.Num > 0) {
		return 0
	}
	return int(min(v.Num, float64(most)))
}

// Append appends v as text: what a template puts in its place.
func (v Value) Append(dst []byte) []byte {
	switch v.Kind {
	case Bool:
		return strconv.AppendBool(dst, v.Num != 0)
	case Number:
		if v.Num == math.Trunc(v.Num) && math.Abs(v.Num) < 1e15 {
			return strconv.AppendInt(dst, int64(v.Num), 10)
		}
		return strconv.AppendFloat(dst, v.Num, 'g', -1, 64)
	}
	return append(dst, v.Str...)
}

// Var names a variable that the client fills in.
type Var uint8

// The variables of a client.
const (
	VarN         Var = iota // the client's number in its crew, from 0
	VarName                 // the client's name
	VarCrew                 // its crew's name
	VarRoom                 // the room it entered last
	VarMark                 // the mark of the message being said
	VarRound                // how often the innermost repeat has run, from 0
	VarTo                   // whom a whisper is for
	VarGroup                // the client's group in its crew, from 0
	VarPlace                // its place in the group, from 0
	VarNode                 // which of the target's addresses it connects to, from 0
	VarPayload              // the payload of the message being said
	VarMarkBytes            // the mark in its binary form
	VarText                 // the whole message or answer at hand
	VarStatus               // the status of the HTTP answer at hand
	VarLast                 // the number of the last message that came, by the dialect; -1: none has
	NumVars
)

// VarNames are the variables' names in the trial language.
var VarNames = [NumVars]string{"n", "name", "crew", "room", "mark", "round", "to", "group", "place", "node", "payload",
	"mark_bytes", "text", "status", "last"}

// stackDepth is the most values an expression may hold at once.
const stackDepth = 24

// A Scope is what expressions are evaluated against. One Scope serves all
// clients of a loop, one after the other. Fields are those of the message at
// hand, in the order of the jsonscan.Table that read it.
type Scope struct {
	Fields  []jsonscan.Value
	Vars    [NumVars]Value
	Locals  []Value     // what the client captured or set, by the trial's list of names
	Columns [][]Value   // of the trial's data; a client has the row of its number
	Figures []float64   // of the run, for final checks
	Head    *http1.Head // of the HTTP answer at hand, or nil
	Now     int64       // microseconds since 1970
	Random  *rand.PCG   // the state that random choices follow from

	buf    []byte
	stack  [stackDepth]Value
	crypt  crypt
	picked [1]jsonscan.Value
}

// Clear forgets the message and the variables, so that nothing of one client
// is seen by the next.
func (s *Scope) Clear() {
	clear(s.Fields)
	s.Vars, s.Locals, s.Head = [NumVars]Value{}, nil, nil
}

func (s *Scope) field(i int) Value {
	if i >= len(s.Fields) {
		return Value{}
	}
	return s.value(s.Fields[i])
}

// value gives a scanned field as a Value.
func (s *Scope) value(f jsonscan.Value) Value {
	switch f.Kind {
	case jsonscan.Bool:
		return Truth(f.Raw[0] == 't')
	case jsonscan.Number:
		n, _ := parseNumber(f.Raw)
		return Num(n)
	case jsonscan.String:
		if bytes.IndexByte(f.Raw, '\\') < 0 {
			return Value{Kind: String, Str: f.Raw}
		}
		from := len(s.buf)
		s.buf = jsonscan.Unquote(s.buf, f.Raw)
		return Value{Kind: String, Str: s.buf[from:]}
	case jsonscan.Array, jsonscan.Object:
		return Value{Kind: JSON, Str: f.Raw}
	}
	return Value{}
}

// parseNumber reads plain integers itself, because strconv wants a string.
func parseNumber(b []byte) (float64, error) {
	n, neg := int64(0), false
	for i, c := range b {
		switch {
		case i == 0 && c == '-':
			neg = true
		case c < '0' || c > '9' || i > 15:
			return strconv.ParseFloat(string(b), 64)
		default:
			n = n*10 + int64(c-'0')
		}
	}
	if neg {
		n = -n
	}
	return float64(n), nil
}

// Eval runs p. The value is valid until the next evaluation with s.
func (p *Program) Eval(s *Scope) Value {
	s.buf = s.buf[:0]
	return p.eval(s)
}

func (p *Program) eval(s *Scope) Value {
	top := -1
	st := &s.stack
	for pc := 0; pc < len(p.code); pc++ {
		in := p.code[pc]
		switch in.op {
		case opConst:
			top++
			st[top] = p.consts[in.arg]
		case opVar:
			top++
			st[top] = s.Vars[in.arg]
		case opField:
			top++
			st[top] = s.field(in.arg)
		case opLocal:
			top++
			st[top] = s.local(in.arg)
		case opColumn:
			top++
			st[top] = s.column(in.arg)
		case opFigure:
			top++
			st[top] = s.figure(in.arg)
		case opCall:
			n := in.arg >> 8
			top -= n - 1
			st[top] = functions[in.arg&255].do(s, st[top:top+n])
		case opCall0:
			top++
			st[top] = functions[in.arg].do(s, nil)
		case opMatch:
			st[top] = p.match(s, in.arg, st[top])
		case opPick:
			st[top] = p.pick(s, in.arg, st[top])
		case opNot:
			st[top] = Truth(!st[top].True())
		case opNeg:
			st[top] = Num(-st[top].Num)
		case opJump:
			pc = in.arg - 1
		case opJumpFalse:
			if top--; !st[top+1].True() {
				pc = in.arg - 1
			}
		case opJumpFalseKeep, opJumpTrueKeep:
			if st[top].True() == (in.op == opJumpTrueKeep) {
				st[top] = Truth(st[top].True())
				pc = in.arg - 1
			} else {
				top--
			}
		case opTruth:
			st[top] = Truth(st[top].True())
		case opJoin:
			top -= in.arg - 1
			st[top] = s.join(st[top : top+in.arg])
		default:
			top--
			st[top] = operate(in.op, st[top], st[top+1])
		}
	}
	return st[0]
}

func (s *Scope) local(i int) Value {
	if i >= len(s.Locals) {
		return Value{}
	}
	return s.Locals[i]
}

func (s *Scope) column(i int) Value {
	if i >= len(s.Columns) || len(s.Columns[i]) == 0 {
		return Value{}
	}
	return s.Columns[i][s.Vars[VarN].upTo(1<<31)%len(s.Columns[i])]
}

func (s *Scope) figure(i int) Value {
	if i >= len(s.Figures) {
		return Value{}
	}
	return Num(s.Figures[i])
}

func (s *Scope) join(parts []Value) Value {
	from := len(s.buf)
	for _, v := range parts {
		s.buf = v.Append(s.buf)
	}
	return Value{Kind: String, Str: s.buf[from:]}
}

// True reports whether p gives true.
func (p *Program) True(s *Scope) bool { return p.Eval(s).True() }

// True reports whether v counts as true: only a Bool that is true does.
func (v Value) True() bool { return v.Kind == Bool && v.Num != 0 }

func operate(op opcode, a, b Value) Value {
	switch op {
	case opEqual:
		return Truth(equal(a, b))
	case opUnequal:
		return Truth(!equal(a, b))
	}
	if a.Kind != Number || b.Kind != Number {
		if op >= opLess {
			return Truth(false)
		}
		return Value{}
	}
	switch op {
	case opAdd:
		return Num(a.Num + b.Num)
	case opSub:
		return Num(a.Num - b.Num)
	case opMul:
		return Num(a.Num * b.Num)
	case opDiv:
		return Num(a.Num / b.Num)
	case opMod:
		return Num(math.Mod(a.Num, b.Num))
	case opLess:
		return Truth(a.Num < b.Num)
	case opLessEqual:
		return Truth(a.Num <= b.Num)
	case opGreater:
		return Truth(a.Num > b.Num)
	}
	return Truth(a.Num >= b.Num)
}

func equal(a, b Value) bool {
	return a.Kind == b.Kind && a.Num == b.Num && bytes.Equal(a.Str, b.Str)
}
