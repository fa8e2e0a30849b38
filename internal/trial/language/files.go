package language

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// Bounds on files.
const (
	maxTrialFile = 1 << 20  // a trial, or a file that it imports, in bytes
	maxDataFile  = 64 << 20 // what an attribute names: data, payloads
	maxNesting   = 100      // brackets, and signs before a value
)

// ReadFile reads a regular file of at most most bytes: a pipe or a device could
// keep the tool waiting for ever.
func ReadFile(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("it is a folder")}
	case !info.Mode().IsRegular():
		return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("it is not a regular file")}
	case info.Size() > most:
		return nil, &fs.PathError{Op: "read", Path: path,
			Err: fmt.Errorf("it has %d bytes; at most %d are read", info.Size(), most)}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it grows; at most %d bytes are read", most)}
	}
	return b, err
}

// tooDeep reports where brackets, or signs before a value, are nested deeper
// than the parser, which goes down once for each, is let go.
func tooDeep(src []byte, name string) *hcl.Diagnostic {
	tokens, _ := hclsyntax.LexConfig(src, name, hcl.InitialPos)
	depth, signs := 0, 0
	for _, t := range tokens {
		switch t.Type {
		case hclsyntax.TokenOBrace, hclsyntax.TokenOBrack, hclsyntax.TokenOParen, hclsyntax.TokenTemplateInterp,
			hclsyntax.TokenTemplateControl, hclsyntax.TokenOQuote:
			depth++
		case hclsyntax.TokenCBrace, hclsyntax.TokenCBrack, hclsyntax.TokenCParen, hclsyntax.TokenTemplateSeqEnd,
			hclsyntax.TokenCQuote:
			depth = max(0, depth-1)
		}
		if t.Type == hclsyntax.TokenBang || t.Type == hclsyntax.TokenMinus {
			signs++
		} else {
			signs = 0
		}
		if depth > maxNesting || signs > maxNesting {
			return &hcl.Diagnostic{Severity: hcl.DiagError,
				Summary: fmt.Sprintf("this is nested more than %d deep, which no trial needs", maxNesting),
				Subject: t.Range.Ptr()}
		}
	}
	return nil
}
