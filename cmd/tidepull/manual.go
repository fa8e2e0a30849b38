package main

import (
	"fmt"
	"io"
	"os"
	"reflect"
	"runtime"
	"strings"

	"github.com/alecthomas/kong"
)

type helpCommand struct {
	Command []string `arg:"" optional:"" help:"The command, such as run, or runs list."`
}

// Run prints what --help prints.
func (c *helpCommand) Run(a *app) error {
	parser := parserOf(reflect.New(reflect.TypeFor[commands]()))
	parsed, err := kong.Trace(parser, append(c.Command, "--help"))
	if err == nil {
		err = parsed.Error
	}
	if err != nil {
		return fmt.Errorf("there is no command %q: %w", strings.Join(c.Command, " "), err)
	}
	return parsed.PrintUsage(false)
}

type versionCommand struct{}

// Run prints the version, the commit, its date, and what the tool was built with.
func (versionCommand) Run(*app) error {
	fmt.Printf("tidepull %s\n", versionInFull())
	fmt.Printf("%s for %s/%s\n", runtime.Version(), runtime.GOOS, runtime.GOARCH)
	return nil
}

type manCommand struct{}

// Run writes the manual page.
func (manCommand) Run(*app) error {
	return writeManual(os.Stdout, parserOf(reflect.New(reflect.TypeFor[commands]())).Model.Node)
}

type completionCommand struct {
	Shell string `arg:"" enum:"bash,zsh,fish" help:"Which one: ${enum}."`
}

// Run writes a script for a shell, which completes commands, flags, and files.
func (c *completionCommand) Run(*app) error {
	root := parserOf(reflect.New(reflect.TypeFor[commands]())).Model.Node
	switch c.Shell {
	case "fish":
		return completeFish(os.Stdout, root)
	case "zsh":
		fmt.Print("#compdef tidepull\nautoload -U +X bashcompinit && bashcompinit\n")
	}
	return completeBash(os.Stdout, root)
}

// eachCommand calls f with every command that is shown, from the top, and the words that lead to it.
func eachCommand(n *kong.Node, words []string, f func(n *kong.Node, words []string)) {
	f(n, words)
	for _, child := range n.Children {
		if child.Type == kong.CommandNode && !child.Hidden {
			eachCommand(child, append(words[:len(words):len(words)], child.Name), f)
		}
	}
}

// flagsOf are those of a command, with those of the commands above it.
func flagsOf(n *kong.Node) (all []*kong.Flag) {
	for _, group := range n.AllFlags(true) {
		all = append(all, group...)
	}
	return all
}

// completeBash writes a function that completes what comes after a command: its subcommands and flags, the values that
// a flag may have, or files.
func completeBash(w io.Writer, root *kong.Node) error {
	var b strings.Builder
	b.WriteString(`# bash completion for tidepull: source <(tidepull completion bash)
_tidepull() {
  local cur prev path word
  cur="${COMP_WORDS[COMP_CWORD]}"
  prev="${COMP_WORDS[COMP_CWORD-1]}"
  path=""
  for word in "${COMP_WORDS[@]:1:COMP_CWORD-1}"; do
    case "$path $word" in
`)
	eachCommand(root, nil, func(_ *kong.Node, words []string) {
		if len(words) > 0 {
			before := strings.Join(words[:len(words)-1], " ")
			fmt.Fprintf(&b, "    %q) path=%q ;;\n", before+" "+words[len(words)-1], strings.Join(words, " "))
		}
	})
	b.WriteString("    esac\n  done\n  case \"$path $prev\" in\n")
	eachCommand(root, nil, func(n *kong.Node, words []string) {
		for _, f := range flagsOf(n) {
			if f.Enum != "" {
				fmt.Fprintf(&b, "  %q) COMPREPLY=($(compgen -W %q -- \"$cur\")); return ;;\n",
					strings.Join(words, " ")+" --"+f.Name, strings.ReplaceAll(f.Enum, ",", " "))
			}
		}
	})
	b.WriteString("  esac\n  case \"$path\" in\n")
	eachCommand(root, nil, func(n *kong.Node, words []string) {
		var offered []string
		for _, child := range n.Children {
			if child.Type == kong.CommandNode && !child.Hidden {
				offered = append(offered, child.Name)
			}
		}
		for _, p := range n.Positional {
			if p.Enum != "" {
				offered = append(offered, strings.Split(p.Enum, ",")...)
			}
		}
		for _, f := range flagsOf(n) {
			offered = append(offered, "--"+f.Name)
		}
		fmt.Fprintf(&b, "  %q) COMPREPLY=($(compgen -W %q -- \"$cur\")) ;;\n", strings.Join(words, " "),
			strings.Join(offered, " "))
	})
	b.WriteString("  esac\n}\ncomplete -o default -F _tidepull tidepull\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// completeFish writes a line for each command and each of its flags.
func completeFish(w io.Writer, root *kong.Node) error {
	var b strings.Builder
	b.WriteString("# fish completion for tidepull: tidepull completion fish | source\n")
	quote := func(s string) string {
		s, _, _ = strings.Cut(s, "\n")
		return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(s) + "'"
	}
	eachCommand(root, nil, func(n *kong.Node, words []string) {
		seen, var1 := "__fish_use_subcommand", ""
		for i, word := range words {
			if seen = "__fish_seen_subcommand_from " + word; i > 0 {
				seen = "__fish_seen_subcommand_from " + words[i-1] + "; and " + seen
			}
		}
		for _, child := range n.Children {
			if child.Type == kong.CommandNode && !child.Hidden {
				fmt.Fprintf(&b, "complete -c tidepull -n %s -a %s -d %s\n", quote(seen), child.Name, quote(child.Help))
			}
		}
		for _, f := range n.Flags {
			if var1 = ""; f.Enum != "" {
				var1 = " -x -a " + quote(strings.ReplaceAll(f.Enum, ",", " "))
			}
			fmt.Fprintf(&b, "complete -c tidepull -n %s -l %s -d %s%s\n", quote(seen), f.Name, quote(f.Help), var1)
		}
	})
	_, err := io.WriteString(w, b.String())
	return err
}

// writeManual writes the manual page in the macros of man(7).
func writeManual(w io.Writer, root *kong.Node) error {
	var b strings.Builder
	plainly := func(s string) string {
		s = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(s)
		if strings.HasPrefix(s, ".") || strings.HasPrefix(s, "'") {
			s = `\&` + s
		}
		return s
	}
	fmt.Fprintf(&b, ".TH TIDEPULL 1 \"\" \"tidepull %s\"\n.SH NAME\ntidepull \\- measure servers that keep "+
		"connections open "+
		"and push messages\n.SH SYNOPSIS\n.B tidepull\n.I command\n[flags]\n.SH DESCRIPTION\n", Version)
	for _, paragraph := range strings.Split(description, "\n\n") {
		fmt.Fprintf(&b, ".PP\n%s\n", plainly(strings.ReplaceAll(paragraph, "\n", " ")))
	}
	flags := func(all []*kong.Flag) {
		for _, f := range all {
			name := `\-\-` + plainly(f.Name)
			if !f.IsBool() {
				name += "=" + plainly(f.FormatPlaceHolder())
			}
			fmt.Fprintf(&b, ".TP\n.B %s\n%s\n", name, plainly(f.Help))
		}
	}
	b.WriteString(".SH FLAGS OF ALL COMMANDS\n")
	flags(root.Flags)
	b.WriteString(".SH COMMANDS\n")
	eachCommand(root, nil, func(n *kong.Node, words []string) {
		if len(words) == 0 {
			return
		}
		fmt.Fprintf(&b, ".SS %s\n%s\n", plainly(strings.Join(words, " ")), plainly(n.Help))
		for _, p := range n.Positional {
			fmt.Fprintf(&b, ".TP\n.I %s\n%s\n", plainly(p.Name), plainly(p.Help))
		}
		flags(n.Flags)
	})
	_, err := io.WriteString(w, b.String())
	return err
}
