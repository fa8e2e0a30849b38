package export

import (
	"fmt"
	"os"
	"strings"
	"unicode"
)

// FreeName gives the name of a file, in a folder, for a view of a run and a
// window, that is not taken yet. Names of the same export in several formats
// differ in their endings alone if nothing is in the way.
func FreeName(run, view string, from, to int, format string) string {
	return safeName(run, view, from, to, format, func(path string) bool {
		_, err := os.Lstat(path)
		return err == nil
	})
}

func safeName(run, view string, from, to int, format string, taken func(string) bool) string {
	name := "tidepull-" + fileWord(run) + "-" + view
	if to > from {
		name += fmt.Sprintf("-%d-%ds", from, to)
	}
	path := name + "." + format
	for n := 2; taken(path); n++ {
		path = fmt.Sprintf("%s-%d.%s", name, n, format)
	}
	return path
}

// fileWord makes a name fit to stand in a file's name.
func fileWord(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(unicode.ToLower(r))
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
		if b.Len() > 40 {
			break
		}
	}
	return strings.Trim(b.String(), "-")
}
