package expr

import (
	"bytes"
	"errors"
	"regexp"
	"slices"

	"tidepull/internal/wire/jsonscan"
)

type opcode uint8

const (
	opConst opcode = iota
	opVar
	opField
	opLocal
	opColumn
	opFigure
	opCall  // arg: the function, and 256 times how many arguments it takes
	opCall0 // without arguments
	opMatch // the part of the text on top that a pattern matches
	opPick  // a field of the JSON text on top
	opNot
	opNeg
	opJump
	opJumpFalse     // takes the condition off
	opJumpFalseKeep // leaves false on the stack if it jumps
	opJumpTrueKeep
	opTruth
	opJoin
	opEqual
	opUnequal
	opAdd
	opSub
	opMul
	opDiv
	opMod
	opLess // this and all after it compare numbers
	opLessEqual
	opGreater
	opGreaterEqual
)

// Binary names an operation on two values.
type Binary opcode

// The operations on two values.
const (
	Equal        = Binary(opEqual)
	Unequal      = Binary(opUnequal)
	Add          = Binary(opAdd)
	Sub          = Binary(opSub)
	Mul          = Binary(opMul)
	Div          = Binary(opDiv)
	Mod          = Binary(opMod)
	Less         = Binary(opLess)
	LessEqual    = Binary(opLessEqual)
	Greater      = Binary(opGreater)
	GreaterEqual = Binary(opGreaterEqual)
)

type instruction struct {
	op  opcode
	arg int
}

// A Program is a compiled expression. It is immutable.
type Program struct {
	code   []instruction
	consts []Value
	needs  []byte

	patterns []pattern
	picks    []*jsonscan.Table
}

// MayHold reports whether p, a condition, can hold on a JSON message at all, from
// a look at its bytes: a condition such as msg.kind == "past" cannot, where
// those four letters are nowhere in it. It spares reading most messages as
// JSON. A message with an escape in it may always.
func (p *Program) MayHold(message []byte) bool {
	return p.needs == nil || bytes.Contains(message, p.needs) || bytes.IndexByte(message, '\\') >= 0
}

// Speaks reports whether what p looks for stands in a message. It is MayHold for messages
// that are something else already, and may have p's meaning beside it.
func (p *Program) Speaks(message []byte) bool {
	return p.needs != nil && bytes.Contains(message, p.needs)
}

// OfMessage reports whether p gives the same for whoever gets a message: it names nothing but the
// message, no time, and nothing random.
func (p *Program) OfMessage() bool {
	for _, in := range p.code {
		switch in.op {
		case opVar:
			if v := Var(in.arg); v != VarText && v != VarStatus {
				return false
			}
		case opLocal, opColumn, opFigure:
			return false
		case opCall, opCall0:
			if functions[in.arg&255].varies {
				return false
			}
		}
	}
	return true
}

// Figures lists the figures of the run that p is about, by their numbers.
func (p *Program) Figures() []int { return p.argsOf(opFigure) }

// Locals lists what the client has remembered that p is about, by numbers.
func (p *Program) Locals() []int { return p.argsOf(opLocal) }

func (p *Program) argsOf(o opcode) (all []int) {
	for _, i := range p.code {
		if i.op == o && !slices.Contains(all, i.arg) {
			all = append(all, i.arg)
		}
	}
	return all
}

// findNeeds recognises conditions of the one form field == "text", either way
// round, in which the text is the same in JSON.
func (p *Program) findNeeds() {
	if len(p.code) != 3 || p.code[2].op != opEqual {
		return
	}
	a, b := p.code[0], p.code[1]
	if a.op == opConst {
		a, b = b, a
	}
	if a.op != opField || b.op != opConst || p.consts[b.arg].Kind != String {
		return
	}
	if text := p.consts[b.arg].Str; len(text) > 0 && len(jsonscan.AppendEscaped(nil, text)) == len(text) {
		p.needs = text
	}
}

// A Builder writes a Program, operands before their operation.
type Builder struct {
	p           Program
	depth, most int
}

func (b *Builder) emit(op opcode, arg, grows int) int {
	b.p.code = append(b.p.code, instruction{op, arg})
	b.depth += grows
	b.most = max(b.most, b.depth)
	return len(b.p.code) - 1
}

// Const pushes a fixed value.
func (b *Builder) Const(v Value) {
	b.p.consts = append(b.p.consts, v)
	b.emit(opConst, len(b.p.consts)-1, 1)
}

// Var pushes a variable of the client.
func (b *Builder) Var(v Var) { b.emit(opVar, int(v), 1) }

// Field pushes a field of the message by its index in the table.
func (b *Builder) Field(i int) { b.emit(opField, i, 1) }

// Local pushes a variable that the session sets, by its place in the list.
func (b *Builder) Local(i int) { b.emit(opLocal, i, 1) }

// Column pushes the client's value in a column of the trial's data.
func (b *Builder) Column(i int) { b.emit(opColumn, i, 1) }

// Figure pushes a figure of the run.
func (b *Builder) Figure(i int) { b.emit(opFigure, i, 1) }

// Call replaces the n values on top by what a function makes of them; ok is
// false if the function does not take so many.
func (b *Builder) Call(f *Function, n int) (ok bool) {
	if n < f.least || n > f.most {
		return false
	}
	if n == 0 {
		b.emit(opCall0, f.index, 1)
	} else {
		b.emit(opCall, n<<8|f.index, 1-n)
	}
	return true
}

// Match replaces the text on top by the part of it that a group of a regular
// expression matches, or by Missing.
func (b *Builder) Match(re *regexp.Regexp, group int) {
	b.p.patterns = append(b.p.patterns, pattern{re, group})
	b.emit(opMatch, len(b.p.patterns)-1, 0)
}

// Pick replaces the JSON text on top by the field of it at a path.
func (b *Builder) Pick(path ...string) {
	t := &jsonscan.Table{}
	t.Add(path...)
	b.p.picks = append(b.p.picks, t)
	b.emit(opPick, len(b.p.picks)-1, 0)
}

// Not turns the truth of the value on top round.
func (b *Builder) Not() { b.emit(opNot, 0, 0) }

// Negate turns the sign of the number on top round.
func (b *Builder) Negate() { b.emit(opNeg, 0, 0) }

// Do replaces the two values on top by what op makes of them.
func (b *Builder) Do(op Binary) { b.emit(opcode(op), 0, -1) }

// Join replaces the n values on top by their texts, one after the other.
func (b *Builder) Join(n int) { b.emit(opJoin, n, 1-n) }

// And pushes whether left and right both hold; right is not evaluated where
// left does not.
func (b *Builder) And(left, right func()) { b.shortcut(opJumpFalseKeep, left, right) }

// Or pushes whether left or right holds.
func (b *Builder) Or(left, right func()) { b.shortcut(opJumpTrueKeep, left, right) }

func (b *Builder) shortcut(op opcode, left, right func()) {
	left()
	at := b.emit(op, 0, -1)
	right()
	b.emit(opTruth, 0, 0)
	b.p.code[at].arg = len(b.p.code)
}

// If pushes then or other.
func (b *Builder) If(condition, then, other func()) {
	condition()
	toOther := b.emit(opJumpFalse, 0, -1)
	then()
	toEnd := b.emit(opJump, 0, -1)
	b.p.code[toOther].arg = len(b.p.code)
	other()
	b.p.code[toEnd].arg = len(b.p.code)
}

// Build returns the program, or an error if it is too deep to evaluate.
func (b *Builder) Build() (*Program, error) {
	if b.most > stackDepth {
		return nil, errors.New("the expression is nested too deeply; split it up")
	}
	b.p.findNeeds()
	return &b.p, nil
}
