package expr

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"math"
	"math/bits"
	"math/rand/v2"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"time"

	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/jsonscan"
)

// A Function is one that expressions can call. Calling it does not allocate,
// once its buffers have grown, unless its Doc says so.
type Function struct {
	Name, Args, Doc string
	least, most     int
	index           int
	do              func(*Scope, []Value) Value
	varies          bool // it gives something else each time, or at another time
}

// maxText bounds what functions make: larger ones give Missing.
const maxText = 16 << 20

var functions []Function

// FunctionNamed returns the function of a name, or nil.
func FunctionNamed(name string) *Function {
	for i := range functions {
		if functions[i].Name == name {
			return &functions[i]
		}
	}
	return nil
}

// Functions lists all functions.
func Functions() []Function { return functions }

func init() {
	add := func(name, args, doc string, least, most int, do func(*Scope, []Value) Value) {
		functions = append(functions, Function{Name: name, Args: args, Doc: doc, least: least, most: most,
			index: len(functions), do: do})
	}
	text := func(name, doc string, f func(dst, src []byte) ([]byte, bool)) {
		add(name, "text", doc, 1, 1, func(s *Scope, a []Value) Value {
			src := s.text(a[0]) // before write: of a number it takes room in the same buffer
			return s.write(func(dst []byte) ([]byte, bool) { return f(dst, src) })
		})
	}
	number := func(name, doc string, f func(float64) float64) {
		add(name, "number", doc, 1, 1, func(_ *Scope, a []Value) Value { return numeric(f, a[0]) })
	}
	text("base64", "in base64", func(dst, src []byte) ([]byte, bool) {
		return base64.StdEncoding.AppendEncode(dst, src),
			true
	})
	text("base64url", "in base64 for addresses, without padding",
		func(dst, src []byte) ([]byte, bool) { return base64.RawURLEncoding.AppendEncode(dst, src), true })
	text("unbase64", "what base64 stands for, of either kind", unbase64)
	text("hex", "in hexadecimal digits", func(dst, src []byte) ([]byte, bool) {
		return hex.AppendEncode(dst, src),
			true
	})
	text("unhex", "what hexadecimal digits stand for", func(dst, src []byte) ([]byte, bool) {
		dst, err := hex.AppendDecode(dst, src)
		return dst, err == nil
	})
	text("md5", "its MD5 digest, 16 bytes", func(dst, src []byte) ([]byte, bool) {
		sum := md5.Sum(src)
		return append(dst, sum[:]...), true
	})
	text("sha1", "its SHA-1 digest, 20 bytes", func(dst, src []byte) ([]byte, bool) {
		sum := sha1.Sum(src)
		return append(dst, sum[:]...), true
	})
	text("sha256", "its SHA-256 digest, 32 bytes", func(dst, src []byte) ([]byte, bool) {
		sum := sha256.Sum256(src)
		return append(dst, sum[:]...), true
	})
	text("sha512", "its SHA-512 digest, 64 bytes", func(dst, src []byte) ([]byte, bool) {
		sum := sha512.Sum512(src)
		return append(dst, sum[:]...), true
	})
	text("json", "as a JSON text, with its quotes",
		func(dst, src []byte) ([]byte, bool) { return jsonscan.AppendQuoted(dst, src), true })
	text("url", "escaped for a query", func(dst, src []byte) ([]byte,
		bool) {
		return append(dst, url.QueryEscape(string(src))...), true
	})
	text("upper", "in capitals", func(dst, src []byte) ([]byte, bool) {
		return append(dst, bytes.ToUpper(src)...),
			true
	})
	text("lower", "in small letters", func(dst, src []byte) ([]byte, bool) {
		return append(dst, bytes.ToLower(src)...),
			true
	})
	text("trim", "without white space around it", func(dst, src []byte) ([]byte,
		bool) {
		return append(dst, bytes.TrimSpace(src)...), true
	})
	text("text", "as text", func(dst, src []byte) ([]byte, bool) { return append(dst, src...), true })
	add("hmac_sha256", "key, text", "its HMAC with SHA-256, 32 bytes", 2, 2, (*Scope).hmac)
	add("aes_gcm", "key, nonce, text", "encrypted with AES-GCM, the tag behind it; the nonce has 12 bytes", 3, 3,
		(*Scope).seal)
	add("aes_gcm_open", "key, nonce, text", "what aes_gcm encrypted; null if the tag is wrong", 3, 3, (*Scope).unseal)
	add("replace", "text, old, new", "with each old made new", 3, 3, func(s *Scope, a []Value) Value {
		src, old, with := s.text(a[0]), s.text(a[1]), s.text(a[2])
		return s.write(func(dst []byte) ([]byte, bool) { return appendReplaced(dst, src, old, with), true })
	})
	add("substr", "text, from, length", "a part of it, in bytes from 0; all the rest if no length is given", 2, 3,
		func(s *Scope, a []Value) Value {
			src := s.text(a[0])
			src = src[a[1].upTo(len(src)):]
			if len(a) == 3 {
				src = src[:a[2].upTo(len(src))]
			}
			return Value{Kind: String, Str: src}
		})
	add("length", "text", "its length in bytes; of a list, count is how many items it has", 1, 1,
		func(s *Scope, a []Value) Value { return Num(float64(len(s.text(a[0])))) })
	add("count", "list", "how many items it has; null if it is no list", 1, 1, func(s *Scope, a []Value) Value {
		n := 0
		if a[0].Kind != JSON || !jsonscan.Elements(a[0].Str, func([]byte) { n++ }) {
			return Value{}
		}
		return Num(float64(n))
	})
	add("has", "list, value", "whether an item of it equals the value; false if it is no list", 2, 2,
		func(s *Scope, a []Value) Value {
			found := false
			if a[0].Kind == JSON {
				jsonscan.Elements(a[0].Str, func(item []byte) {
					if !found && whole.Extract(item, s.picked[:]) == nil {
						found = equal(s.value(s.picked[0]), a[1])
					}
				})
			}
			return Truth(found)
		})
	add("contains", "text, part", "whether the part stands in it", 2, 2, func(s *Scope, a []Value) Value {
		return Truth(bytes.Contains(s.text(a[0]), s.text(a[1])))
	})
	add("starts", "text, part", "whether it starts with the part", 2, 2, func(s *Scope, a []Value) Value {
		return Truth(bytes.HasPrefix(s.text(a[0]), s.text(a[1])))
	})
	add("number", "text", "the number that it says, or null", 1, 1, func(s *Scope, a []Value) Value {
		n, err := parseNumber(s.text(a[0]))
		if err != nil || len(s.text(a[0])) == 0 {
			return Value{}
		}
		return Num(n)
	})
	number("floor", "the whole number below", math.Floor)
	number("ceil", "the whole number above", math.Ceil)
	number("round", "the nearest whole number", math.Round)
	number("abs", "without its sign", math.Abs)
	add("min", "numbers", "the least", 1, 20, func(_ *Scope, a []Value) Value { return fold(a, math.Min) })
	add("max", "numbers", "the greatest", 1, 20, func(_ *Scope, a []Value) Value { return fold(a, math.Max) })
	add("now", "", "milliseconds since 1970", 0, 0,
		func(s *Scope, _ []Value) Value { return Num(float64(s.Now / 1000)) })
	add("timestamp", "", "the time as in 2026-01-31T06:00:00.000Z", 0, 0, func(s *Scope, _ []Value) Value {
		return s.write(func(dst []byte) ([]byte, bool) {
			return time.UnixMicro(s.Now).UTC().AppendFormat(dst, "2006-01-02T15:04:05.000Z07:00"), true
		})
	})
	add("parse_time", "text", "milliseconds since 1970 of a time as in RFC 3339, or null", 1, 1,
		func(s *Scope, a []Value) Value {
			t, err := time.Parse(time.RFC3339, string(s.text(a[0])))
			if err != nil {
				return Value{}
			}
			return Num(float64(t.UnixMilli()))
		})
	add("random", "from, to", "a whole number, both ends included", 2, 2, func(s *Scope, a []Value) Value {
		span := math.Floor(a[1].Num) - math.Ceil(a[0].Num) + 1
		if span < 1 {
			return Value{}
		}
		return Num(math.Ceil(a[0].Num) + math.Floor(s.fraction()*span))
	})
	add("uniform", "from, to", "a number in between", 2, 2,
		func(s *Scope, a []Value) Value { return Num(a[0].Num + s.fraction()*(a[1].Num-a[0].Num)) })
	add("normal", "mean, deviation", "a number of the normal distribution", 2, 2, func(s *Scope, a []Value) Value {
		return Num(a[0].Num + a[1].Num*math.Sqrt(-2*math.Log(1-s.fraction()))*math.Cos(2*math.Pi*s.fraction()))
	})
	add("exponential", "mean", "a number of the exponential distribution", 1, 1,
		func(s *Scope, a []Value) Value { return Num(-a[0].Num * math.Log(1-s.fraction())) })
	add("pick", "values", "one of them, at random", 1, 20,
		func(s *Scope, a []Value) Value { return a[int(s.fraction()*float64(len(a)))] })
	add("uuid", "", "a random UUID, version 4", 0, 0, (*Scope).uuid)
	add("filler", "length", "text of that many bytes", 1, 1, func(s *Scope, a []Value) Value {
		n := a[0].upTo(maxText)
		return s.write(func(dst []byte) ([]byte, bool) { return appendFiller(dst, n), true })
	})
	for _, f := range numberForms {
		add(f.name, "number", f.doc, 1, 1, func(s *Scope, a []Value) Value {
			n, ok := a[0].Int()
			return s.write(func(dst []byte) ([]byte, bool) {
				return f.append(dst, uint64(n)), ok && n >= 0 && n < 1<<f.bits
			})
		})
		add("un"+f.name, "text", "the number that the first bytes stand for, as "+f.name+" writes it; null if there "+
			"are too few", 1, 1, func(s *Scope, a []Value) Value {
			if n, size := f.read(s.text(a[0])); size > 0 && n < 1<<53 {
				return Num(float64(n))
			}
			return Value{}
		})
	}
	add("random_bytes", "length", "random bytes", 1, 1, func(s *Scope, a []Value) Value {
		n := a[0].upTo(maxText)
		return s.write(func(dst []byte) ([]byte, bool) {
			for i := 0; i < n; i++ {
				dst = append(dst, byte(s.rand()>>32))
			}
			return dst, true
		})
	})
	add("awkward", "number", "one of the texts that servers get wrong: many-byte letters, markup, control "+
		"characters, escapes, nothing", 1, 1, func(_ *Scope, a []Value) Value {
		i, ok := a[0].Int()
		if !ok {
			return Value{}
		}
		return Value{Kind: String, Str: awkward[max(i, -i)%int64(len(awkward))]}
	})
	add("header", "name", "the first value of a field of the HTTP answer", 1, 1, func(s *Scope, a []Value) Value {
		if s.Head == nil {
			return Value{}
		}
		name := string(s.text(a[0]))
		for _, f := range s.Head.Fields {
			if len(f.Name) == len(name) && bytes.EqualFold([]byte(f.Name), []byte(name)) {
				return Str(f.Value)
			}
		}
		return Value{}
	})
	add("cookie", "name", "the value of a cookie that the HTTP answer sets", 1, 1, func(s *Scope, a []Value) Value {
		if s.Head == nil {
			return Value{}
		}
		name := s.text(a[0])
		for _, c := range http1.SetCookies(s.Head.Fields) {
			if c.Name == string(name) {
				return Value{Kind: String, Str: []byte(c.Value)}
			}
		}
		return Value{}
	})
	for _, name := range []string{"now", "timestamp", "random", "uniform", "normal", "exponential", "pick", "uuid",
		"random_bytes"} {
		FunctionNamed(name).varies = true
	}
}

// numberForms are the ways in which binary protocols write whole numbers. read gives the
// number that some bytes begin with, and how many of them are its; 0 if they are too few.
var numberForms = []struct {
	name, doc string
	bits      int
	append    func([]byte, uint64) []byte
	read      func([]byte) (n uint64, size int)
}{
	{"byte", "a number from 0 to 255 as one byte", 8, func(b []byte, n uint64) []byte { return append(b, byte(n)) },
		func(b []byte) (uint64, int) {
			if len(b) < 1 {
				return 0, 0
			}
			return uint64(b[0]), 1
		}},
	{"uint16", "a number as two bytes, the high one first", 16,
		func(b []byte, n uint64) []byte { return binary.BigEndian.AppendUint16(b, uint16(n)) },
		func(b []byte) (uint64, int) {
			if len(b) < 2 {
				return 0, 0
			}
			return uint64(binary.BigEndian.Uint16(b)), 2
		}},
	{"uint32", "a number as four bytes, the high one first", 32,
		func(b []byte, n uint64) []byte { return binary.BigEndian.AppendUint32(b, uint32(n)) },
		func(b []byte) (uint64, int) {
			if len(b) < 4 {
				return 0, 0
			}
			return uint64(binary.BigEndian.Uint32(b)), 4
		}},
	{"varint", "a number in groups of seven bits, the low ones first", 53, binary.AppendUvarint, binary.Uvarint},
}

// awkward are the texts of the function of that name.
var awkward = [][]byte{
	[]byte("Grüße an Bord – Ñandú, 波止場, Τελωνείο, 🛳⚓, e\u0301"),
	[]byte(`<b onclick="alert('berth')">&amp; </b><script>1 < 2 && 3 > 2</script>`),
	[]byte("tab\there, line\nthere, return\r, bell\a, escape\x1b[31m, nul\x00, del\x7f"),
	[]byte(`quotes " ' backslash \ slash / and \u0041 that stays as it is, {"a":[1,2,{"b":null}]}`),
	[]byte("  blanks around  "),
	[]byte(""),
}

// text gives a value as text.
func (s *Scope) text(v Value) []byte {
	if v.Kind == String || v.Kind == JSON {
		return v.Str
	}
	from := len(s.buf)
	s.buf = v.Append(s.buf)
	return s.buf[from:]
}

// write makes a text of what f appends; false from f gives Missing.
func (s *Scope) write(f func([]byte) ([]byte, bool)) Value {
	from := len(s.buf)
	out, ok := f(s.buf)
	if !ok || len(out)-from > maxText {
		if len(out) >= from && cap(out) <= maxText {
			s.buf = out // the memory is kept
		}
		s.buf = s.buf[:from]
		return Value{}
	}
	s.buf = out
	return Value{Kind: String, Str: out[from:len(out):len(out)]}
}

func unbase64(dst, src []byte) ([]byte, bool) {
	src = bytes.TrimRight(src, "=")
	enc := base64.RawStdEncoding
	if bytes.ContainsAny(src, "-_") {
		enc = base64.RawURLEncoding
	}
	dst, err := enc.AppendDecode(dst, src)
	return dst, err == nil
}

func appendReplaced(dst, src, old, with []byte) []byte {
	if len(old) == 0 {
		return append(dst, src...)
	}
	for {
		i := bytes.Index(src, old)
		if i < 0 {
			return append(dst, src...)
		}
		dst = append(append(dst, src[:i]...), with...)
		src = src[i+len(old):]
	}
}

func appendFiller(dst []byte, n int) []byte {
	const words = "the tide turns at the outer lock and the gauge at the north mole reads three metres "
	dst = slices.Grow(dst, n)
	for ; n > len(words); n -= len(words) {
		dst = append(dst, words...)
	}
	return append(dst, words[:n]...)
}

func numeric(f func(float64) float64, v Value) Value {
	if v.Kind != Number {
		return Value{}
	}
	return Num(f(v.Num))
}

func fold(a []Value, f func(x, y float64) float64) Value {
	n := a[0].Num
	for _, v := range a {
		if v.Kind != Number {
			return Value{}
		}
		n = f(n, v.Num)
	}
	return Num(n)
}

// random is the source of random choices; without one they are always the same.
func (s *Scope) random() *rand.PCG {
	if s.Random == nil {
		s.Random = rand.NewPCG(0, 0)
	}
	return s.Random
}

func (s *Scope) rand() uint64 { return s.random().Uint64() }

func (s *Scope) fraction() float64 { return Fraction(s.random()) }

// Fraction is random, from 0 up to but without 1.
func Fraction(r *rand.PCG) float64 { return float64(r.Uint64()>>11) / (1 << 53) }

// uuid makes one of RFC 9562 5.4.
func (s *Scope) uuid([]Value) Value {
	hi, lo := s.rand(), s.rand()
	hi = hi&^0xf000 | 0x4000
	lo = lo&^(3<<62) | 2<<62
	return s.write(func(dst []byte) ([]byte, bool) {
		for i, part := range [...]struct {
			v     uint64
			width int
		}{{hi >> 32, 8}, {hi >> 16 & 0xffff, 4}, {hi & 0xffff, 4}, {lo >> 48, 4}, {lo & (1<<48 - 1), 12}} {
			if i > 0 {
				dst = append(dst, '-')
			}
			for n := max(1, (bits.Len64(part.v)+3)/4); n < part.width; n++ {
				dst = append(dst, '0')
			}
			dst = strconv.AppendUint(dst, part.v, 16)
		}
		return dst, true
	})
}

// whole is the table for a JSON text as one value.
var whole = func() *jsonscan.Table {
	t := &jsonscan.Table{}
	t.Add()
	return t
}()

// A pattern is a regular expression and which of its groups is wanted.
type pattern struct {
	re    *regexp.Regexp
	group int
}

// match gives the part of a text that a pattern matches. It allocates if it
// matches.
func (p *Program) match(s *Scope, i int, v Value) Value {
	m := p.patterns[i]
	text := s.text(v)
	if !m.re.Match(text) {
		return Value{}
	}
	at := m.re.FindSubmatchIndex(text)
	if from := at[2*m.group]; from >= 0 {
		return Value{Kind: String, Str: text[from:at[2*m.group+1]]}
	}
	return Value{}
}

// pick gives a field of a JSON text.
func (p *Program) pick(s *Scope, i int, v Value) Value {
	if p.picks[i].Extract(s.text(v), s.picked[:]) != nil {
		return Value{}
	}
	return s.value(s.picked[0])
}
