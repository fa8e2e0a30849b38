package language

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
	"github.com/zclconf/go-cty/cty"

	"tidepull/internal/trial/expr"
)

// beside gives the path of a file that stands in another one.
func (r *reader) beside(name, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(name), path)
}

// readBeside reads a file that an attribute names.
func (r *reader) readBeside(a *hcl.Attribute) ([]byte, bool) {
	path := r.beside(a.Range.Filename, r.text(a, ""))
	b, err := r.options.Read(path)
	if err != nil {
		r.fail(a.Expr.Range(), "the file cannot be read: %v", reasonOf(err))
		return nil, false
	}
	return b, true
}

// reasonOf shortens an error about a file to what is wrong with it.
func reasonOf(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return fmt.Errorf("%s: %w", path.Path, path.Err)
	}
	return err
}

// readVariables sets the variables from their defaults and the command line.
func (r *reader) readVariables() {
	values := map[string]cty.Value{}
	for _, b := range r.blocks["variable"] {
		a := r.open(b.Body, "variable").Attributes
		name := b.Labels[0]
		if a["default"] == nil {
			continue
		}
		v, diags := a["default"].Expr.Value(nil)
		if diags.HasErrors() || !v.IsKnown() || v.IsNull() || !v.Type().IsPrimitiveType() {
			r.fail(a["default"].Expr.Range(), "a default is a fixed number, text, true or false")
			continue
		}
		if text, set := r.options.Set[name]; set { // of the default's type: a typing error is found here
			switch v.Type() {
			case cty.Number:
				if n, err := cty.ParseNumberVal(text); err == nil {
					v = n
				} else {
					r.fail(b.DefRange, "--set %s=%s: it is a number", name, text)
				}
			case cty.Bool:
				if yes, err := strconv.ParseBool(text); err == nil {
					v = cty.BoolVal(yes)
				} else {
					r.fail(b.DefRange, "--set %s=%s: it is true or false", name, text)
				}
			default:
				v = cty.StringVal(text)
			}
		}
		values[name] = v
	}
	for _, name := range keys(r.options.Set) {
		if _, known := values[name]; !known {
			r.missing(hcl.Range{Filename: r.main, Start: hcl.InitialPos, End: hcl.InitialPos},
				"--set %s: the trial has no such variable%s", name, nearest(name, keys(values)))
		}
	}
	r.vars = hcl.EvalContext{Variables: map[string]cty.Value{"var": cty.ObjectVal(values)}}
}

// leastSecret is the shortest secret: a shorter one could not be hidden
// without hiding half of everything else.
const leastSecret = 4

// readSecrets takes secrets from the environment, and from files beside the trial.
func (r *reader) readSecrets() {
	var secrets []string
	for _, b := range r.blocks["secret"] {
		a := r.open(b.Body, "secret").Attributes
		var text string
		r.secrets[b.Labels[0]] = "" // known, even if it cannot be read
		at := b.DefRange
		switch {
		case a["captured"] != nil && a["env"] == nil && a["file"] == nil:
			if r.yes(a["captured"]) {
				r.captured = append(r.captured, b.Labels[0])
			}
			delete(r.secrets, b.Labels[0])
			continue
		case a["env"] != nil && a["file"] == nil:
			name := r.text(a["env"], "")
			at = a["env"].Expr.Range()
			if text = os.Getenv(name); text == "" {
				r.fail(at, "the environment variable %s is not set", name)
				continue
			}
		case a["file"] != nil && a["env"] == nil:
			at = a["file"].Expr.Range()
			content, ok := r.readBeside(a["file"])
			if !ok {
				continue
			}
			text = strings.TrimRight(string(content), "\r\n")
		default:
			r.fail(at, "a secret is in env or in file, or captured")
			continue
		}
		if len(text) < leastSecret {
			r.fail(at, "the secret is shorter than %d bytes", leastSecret)
			continue
		}
		r.secrets[b.Labels[0]] = text
		secrets = append(secrets, text)
	}
	r.trial.SetSecrets(secrets)
}

// readData reads tables from files beside the trial. Their columns follow each other
// in Trial.Data.
func (r *reader) readData() {
	for _, b := range r.blocks["data"] {
		a := r.open(b.Body, "data").Attributes["file"]
		if a == nil {
			continue
		}
		content, ok := r.readBeside(a)
		if !ok {
			continue
		}
		var names []string
		var columns [][]expr.Value
		var err error
		if strings.HasSuffix(strings.ToLower(r.text(a, "")), ".json") {
			names, columns, err = jsonRows(content)
		} else {
			names, columns, err = csvRows(content)
		}
		if err == nil && (len(columns) == 0 || len(columns[0]) == 0) {
			err = errors.New("there are no rows in it")
		}
		if err != nil {
			r.fail(a.Expr.Range(), "the data cannot be read: %v", err)
			continue
		}
		table := map[string]int{}
		for i, name := range names {
			table[name] = len(r.trial.Data)
			r.trial.Data = append(r.trial.Data, columns[i])
		}
		r.tables[b.Labels[0]] = table
	}
}

// csvRows reads a table; its first row is the names of the columns. Spreadsheets put
// a byte order mark before it.
func csvRows(content []byte) (names []string, columns [][]expr.Value, err error) {
	rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(content, []byte("\xef\xbb\xbf")))).ReadAll()
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	columns = make([][]expr.Value, len(rows[0]))
	for _, row := range rows[1:] {
		for i, cell := range row {
			columns[i] = append(columns[i], expr.Str(cell))
		}
	}
	return rows[0], columns, nil
}

// jsonRows reads a list of objects: the columns are all names that occur. What is
// neither text, number nor truth is kept as JSON.
func jsonRows(content []byte) (names []string, columns [][]expr.Value, err error) {
	var rows []map[string]any
	if err := json.Unmarshal(content, &rows); err != nil {
		return nil, nil, err
	}
	at := map[string]int{}
	for _, row := range rows {
		for name := range row {
			if _, known := at[name]; !known {
				at[name] = 0
			}
		}
	}
	names = keys(at)
	columns = make([][]expr.Value, len(names))
	for _, row := range rows {
		for i, name := range names {
			var v expr.Value
			switch cell := row[name].(type) {
			case nil:
			case string:
				v = expr.Str(cell)
			case float64:
				v = expr.Num(cell)
			case bool:
				v = expr.Truth(cell)
			default:
				text, err := json.Marshal(cell)
				if err != nil {
					return nil, nil, err
				}
				v = expr.Value{Kind: expr.JSON, Str: text}
			}
			columns[i] = append(columns[i], v)
		}
	}
	return names, columns, nil
}

// readLocals finds the names that sessions remember, wherever they do.
func (r *reader) readLocals() {
	var look func(body *hclsyntax.Body)
	add := func(name string) {
		if _, known := r.locals[name]; !known {
			r.locals[name] = len(r.trial.Locals)
			r.trial.Locals = append(r.trial.Locals, name)
		}
	}
	look = func(body *hclsyntax.Body) {
		for _, b := range body.Blocks {
			if b.Type == "set" {
				for _, name := range keys(b.Body.Attributes) {
					add(name)
				}
				continue
			}
			if a := b.Body.Attributes["capture"]; a != nil {
				if o, ok := a.Expr.(*hclsyntax.ObjectConsExpr); ok {
					for _, item := range o.Items {
						if key, diags := item.KeyExpr.Value(nil); !diags.HasErrors() && key.IsKnown() &&
							!key.IsNull() && key.Type() == cty.String {
							add(key.AsString())
						}
					}
				}
			}
			look(b.Body)
		}
	}
	for _, b := range r.blocks["session"] {
		if body, ok := b.Body.(*hclsyntax.Body); ok {
			look(body)
		}
	}
}

// captures compiles an object of names and expressions.
func (r *reader) captures(a *hcl.Attribute) []captured {
	if a == nil {
		return nil
	}
	o, ok := a.Expr.(*hclsyntax.ObjectConsExpr)
	if !ok {
		r.fail(a.Expr.Range(), "write { NAME = expression }")
		return nil
	}
	var all []captured
	for _, item := range o.Items {
		key, diags := item.KeyExpr.Value(nil)
		if diags.HasErrors() || key.Type() != cty.String || !key.IsKnown() || key.IsNull() {
			r.fail(item.KeyExpr.Range(), "a name must be a fixed text")
			continue
		}
		p, _ := r.compile(item.ValueExpr, true)
		all = append(all, captured{Local: r.locals[key.AsString()], Value: p})
	}
	return all
}
