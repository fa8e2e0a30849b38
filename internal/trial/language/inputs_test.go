package language

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/hashicorp/hcl/v2"

	"tidepull/internal/trial/expr"
	"tidepull/internal/wire/http1"
	"tidepull/internal/wire/jsonscan"
)

// files are what the trial of TestInputs names.
var files = map[string]string{
	"harbour/common.trial.hcl": `
variable "boats" { default = 12 }
data "pilots" { file = "../data/pilots.csv" }
data "berths" { file = "berths.json" }
secret "token" { file = "token.txt" }
session "s" {
  connect {
    bearer  = secret.token
    headers = { "X-Berth" = "${data.berths.name}/${data.berths.depth}" }
  }
  say {
    body    = "${data.pilots.callsign} of ${var.port}: ${my.word} ${mark}"
    reaches = "everyone"
  }
  expect "it" {
    when    = msg.kind == "notice"
    capture = { word = msg.word }
  }
}
tide {
  flood "100%" { over = "9s" }
}
`,
	"data/pilots.csv":     "\xef\xbb\xbfcallsign,berth\nAlder,12\n\"Birch, old\",7\n",
	"harbour/berths.json": `[{"name":"north","depth":7.5},{"name":"south"},{"name":"mole","depth":null}]`,
	"harbour/token.txt":   "hush-hush\n",
}

const importing = `
import "common.trial.hcl" {}
trial "t" {}
variable "port" { default = "the north" }
target "t" { websocket = "ws://127.0.0.1:1/" }
crew "c" {
  clients = var.boats
  session = session.s
}
tide {
  flood "100%" { over = "1s" }
}
`

// TestInputs reads a trial that takes in another file, data, a secret and
// variables set from outside.
func TestInputs(t *testing.T) {
	read := func(path string) ([]byte, error) {
		if s, ok := files[path]; ok {
			return []byte(s), nil
		}
		return nil, &fs.PathError{Op: "open", Path: path, Err: fs.ErrNotExist}
	}
	tr, err := Parse([]byte(importing), "harbour/t.trial.hcl",
		Options{Read: read, Set: map[string]string{"boats": "30", "port": "Höganäs"}})
	if err != nil {
		t.Fatal(err)
	}
	if tr.Clients() != 30 || tr.Tide.Length().Seconds() != 1 || fmt.Sprint(tr.Secrets) != "[hush-hush]" ||
		fmt.Sprint(tr.Locals) != "[word]" {
		t.Errorf("%d clients, %v, secrets %v, remembers %v", tr.Clients(), tr.Tide, tr.Secrets, tr.Locals)
	}
	s := &expr.Scope{Fields: make([]jsonscan.Value, tr.Fields.Len()), Columns: tr.Data,
		Locals: []expr.Value{expr.Str("stand by")}}
	steps := tr.Crews[0].Session.Steps
	for n, want := range []string{
		"Bearer hush-hush | north/7.5 | Alder of Höganäs: stand by MARK",
		"Bearer hush-hush | south/ | Birch, old of Höganäs: stand by MARK",
		"Bearer hush-hush | mole/ | Alder of Höganäs: stand by MARK",
		"Bearer hush-hush | north/7.5 | Birch, old of Höganäs: stand by MARK",
	} {
		s.Vars[expr.VarN], s.Vars[expr.VarMark] = expr.Num(float64(n)), expr.Str("MARK")
		fields := map[string]string{}
		for _, f := range steps[0].Dial.Fields {
			fields[f.Name] = string(f.Value.Append(nil, s))
		}
		got := fields["Authorization"] + " | " + fields["X-Berth"] + " | " + string(steps[1].Body.Append(nil, s))
		if got != want {
			t.Errorf("client %d: %s, want %s", n, got, want)
		}
	}
	if got := tr.Hide("it says hush-hush twice: hush-hush"); strings.Contains(got, "hush") {
		t.Errorf("the secret is shown: %s", got)
	}
	for set, want := range map[string]string{"boat=3": "no such variable; did you mean \"boats\"?",
		"boats=many": "it is a number"} {
		name, value, _ := strings.Cut(set, "=")
		var all *Errors
		if _, err := Parse([]byte(importing), "harbour/t.trial.hcl",
			Options{Read: read, Set: map[string]string{name: value}}); !errors.As(err, &all) ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("--set %s: %v", set, err)
		}
	}
}

// TestFunctions calls each function; those on the hot path must not allocate.
func TestFunctions(t *testing.T) {
	allocates := map[string]bool{"url": true, "upper": true, "lower": true, "header": true, "parse_time": true,
		"cookie": true}
	seen := map[string]bool{}
	for call, want := range map[string]string{
		`base64("a?b")`: "YT9i", `base64url("??>")`: "Pz8-", `unbase64("Pz8-")`: "??>", `unbase64("Pz8+")`: "??>",
		`hex(byte(200))`: "c8", `byte(256)`: "", `byte(0.5)`: "", `hex(uint16(258))`: "0102",
		`hex(uint32(66051))`: "00010203", `uint32(-1)`: "", `hex(varint(300))`: "ac02",
		`unbyte(unhex("c8"))`: "200", `unuint16(unhex("0102ff"))`: "258", `unuint16(unhex("01"))`: "",
		`unuint32(unhex("00010203"))`: "66051", `unvarint(unhex("ac02ff"))`: "300", `unvarint(unhex("ac"))`: "",
		`1 + length(varint(unvarint("")))`: "1", `1 + unvarint("")`: "", `substr("gauge", 3)`: "ge",
		`hex("az")`: "617a", `unhex("617a")`: "az", `unhex("6")`: "",
		`hex(md5("abc"))`:                  "900150983cd24fb0d6963f7d28e17f72",
		`hex(sha1("abc"))`:                 "a9993e364706816aba3e25717850c26c9cd0d89d",
		`hex(sha256("abc"))`:               "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		`substr(hex(sha512("abc")), 0, 8)`: "ddaf35a1",
		`hex(hmac_sha256("key", "The quick brown fox jumps over the lazy dog"))`: "f7bc83f430538424b13298e6aa6fb" +
			"143ef4d59a14946175997479dbc2d1a3cd8",
		`aes_gcm_open("0123456789abcdef", "nonce-of-12b", aes_gcm("0123456789abcdef", "nonce-of-12b", "gate ${na` +
			`me}"))`: "gate tug", `aes_gcm_open("0123456789abcdef", "nonce-of-12b", "forged")`: "", `aes_gcm("sh` +
			`ort", "x", "y")`: "",
		`json("a\"b")`: `"a\"b"`, `url("a b&c")`: "a+b%26c", `upper("é1a")`: "É1A", `lower("ÉA")`: "éa",
		`trim("  x\n")`: "x", `text(3.5)`: "3.5", `replace("a-b-c", "-", "+")`: "a+b+c",
		`substr("gauge", 2, 9)`: "uge",
		`length("né")`:          "3", `contains("harbour", "bou")`: "true", `starts("harbour", "bou")`: "false",
		`number("12.5") * 2`: "25", `number("x")`: "", `floor(2.7)`: "2", `ceil(2.1)`: "3", `round(2.5)`: "3",
		`abs(-2)`: "2", `min(3, 1, 2)`: "1", `max(3, 1, 2)`: "3",
		`now()`: "1767225601500", `timestamp()`: "2026-01-01T00:00:01.500Z",
		`parse_time("2026-01-01T01:00:01+01:00")`: "1767225601000", `filler(10)`: "the tide t",
		`length(filler(normal(500, 0)))`: "500", `length(random_bytes(7))`: "7", `length(uuid())`: "36",
		`random(4, 4)`: "4", `pick("only")`: "only", `uniform(2, 2)`: "2", `exponential(0)`: "0",
		`length(awkward(5))`: "0", `match("berth 12 free", "berth (\\d+)")`: "12",
		`match("berth 12 free", "\\d+ (fr)ee", 1)`: "fr", `match("none", "(\\d)")`: "",
		`match("abc", "b")`: "b",
		`field("{\"a\":{\"b\":[1,\"x\\ty\"]}}", "a.b.1")`: "x\ty", `field("no json", "a")`: "",
		`count(field("{\"a\":[1,[2,3]]}", "a"))`: "2", `count("[1]")`: "",
		`has(field("{\"a\":[1,\"x\"]}", "a"), "x")`: "true", `has(field("{\"a\":[1]}", "a"), "1")`: "false",
		`header("X-Gauge")`: "3 m", `cookie("berth")`: "12", `cookie("other")`: "",
	} {
		name := call[:strings.IndexByte(call, '(')]
		for _, f := range expr.Functions() {
			seen[f.Name] = seen[f.Name] || strings.Contains(call, f.Name+"(")
		}
		r := &reader{sources: map[string][]byte{}, blocks: map[string][]*hclBlock{}}
		r.trial.Fields = &jsonscan.Table{}
		body, _ := r.parse([]byte("x = "+call), "f").JustAttributes()
		p, _ := r.compile(body["x"].Expr, false)
		if r.diags.HasErrors() {
			t.Errorf("%s: %v", call, r.diags)
			continue
		}
		s := &expr.Scope{Now: 1767225601500000, Head: &head}
		s.Vars[expr.VarName] = expr.Str("tug")
		if got := string(p.Eval(s).Append(nil)); got != want && want != "?" {
			t.Errorf("%s is %q, want %q", call, got, want)
		}
		if n := testing.AllocsPerRun(20, func() { p.Eval(s) }); n != 0 && !allocates[name] && name != "match" &&
			want != "" {
			t.Errorf("%s: %v allocations", call, n)
		}
	}
	for _, f := range expr.Functions() {
		if !seen[f.Name] {
			t.Errorf("%s is not tried", f.Name)
		}
	}
}

var head = http1.Head{Status: 200, Fields: []http1.Field{{Name: "x-gauge", Value: "3 m"},
	{Name: "Set-Cookie", Value: "berth=12; Path=/"}}}

type hclBlock = hcl.Block

// TestFiles: what is no trial of a reasonable size is refused with a sentence,
// and nothing is waited for.
func TestFiles(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for path, says := range map[string]string{
		dir:         "it is a folder",
		"/dev/zero": "it is not a regular file",
		file("big.trial.hcl", strings.Repeat("# tide\n",
			200_000)): "it has 1400000 bytes; at most 1048576 are read",
		file("brackets.trial.hcl", "x = "+strings.Repeat("(",
			100_000)): "nested more than 100 deep",
		file("signs.trial.hcl", "x = "+strings.Repeat("!", 100_000)+
			"true"): "nested more than 100 deep",
		file("blocks.trial.hcl", strings.Repeat("repeat {\n",
			20_000)): "nested more than 100 deep",
		file("texts.trial.hcl", "x = "+strings.Repeat(`"${`, 50_000)+"1"+strings.Repeat(`}"`, 50_000)+
			"\n"): "nested more than 100 deep",
	} {
		began := time.Now()
		_, err := Load(path, Options{})
		if err == nil || !strings.Contains(err.Error(), says) || len(err.Error()) > 1500 {
			t.Errorf("%s: %.300v, want %q", path, err, says)
		}
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("%s took %v", path, took)
		}
	}
}
