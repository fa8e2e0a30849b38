// Tidepull measures servers that keep connections open and push messages.
package main

import (
	"errors"
	"fmt"
	"os"
	"reflect"
	"runtime/debug"
	"strings"

	"github.com/alecthomas/kong"

	"tidepull/internal/engine"
	"tidepull/internal/run"
	"tidepull/internal/trial/language"
)

// Version is the tool's version, as CHANGELOG.md has it.
const Version = "0.4.0"

// commit is what the tool was built from; make sets it. Otherwise Go may know it.
var commit string

// versionInFull is the version with the commit, if that is known.
func versionInFull() string {
	from := commit
	if from == "" {
		from = revision()
	}
	if from == "" {
		return Version
	}
	return Version + ", commit " + from
}

// revision is the commit that Go itself noted when it built the tool; "" if it did not.
func revision() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return ""
	}
	text, date := "", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			text = s.Value[:min(len(s.Value), 10)]
		case "vcs.time":
			date, _, _ = strings.Cut(s.Value, "T")
		}
	}
	if text != "" && date != "" {
		text += " of " + date
	}
	return text
}

// The exit statuses, as --help lists them.
const (
	exitHolds       = 0
	exitBroken      = 1
	exitWrong       = 2
	exitNotProven   = 3
	exitUnreachable = 4
)

const description = `Tide Pull points many simulated clients at a server that keeps connections
open and pushes messages, and measures whether each message reaches exactly the
clients that should get it, and how soon.

Alone it opens a home screen: trials of this folder, past runs, the demo.

Start with "tidepull demo": it runs a trial against a server that ships with the
tool. Then write a trial for your own server (tidepull demo --write FILE gives
you one to change) and run it with "tidepull run FILE".

Exit status of run and demo: 0 all limits hold, 1 a limit is broken, 2 the trial
is wrong, 3 not proven (cut short, nothing was measured, or it was the tool's or
the machine's doing), 4 the target could not be reached; docs/verdict.md says what
each means. Of probe: 0 all expectations met, 1 one was not, 4 there is no
connection. Of conform: 0 all is done that the standard demands, 1 something is not, 4 there is no
connection. Of replay: 0 the same, 1 it differs, 3 it was stopped or nothing could be compared, 4 there is no
connection.`

type commands struct {
	Log       string           `placeholder:"FILE" help:"${log}"`
	Store     string           `placeholder:"FILE" help:"${store}"`
	Home      homeCommand      `cmd:"" default:"1" help:"Open the home screen (also without any command)."`
	Run       runCommand       `cmd:"" help:"Run a trial."`
	Demo      demoCommand      `cmd:"" help:"Run the shipped trial against the shipped stand-in, a harbour board."`
	New       newCommand       `cmd:"" help:"Write a first trial for a server, from questions or a recording."`
	Check     checkCommand     `cmd:"" help:"Check trials for errors, and run nothing."`
	Format    formatCommand    `cmd:"" help:"Lay trials out in the usual way."`
	Words     wordsCommand     `cmd:"" help:"Print the trial language's reference, as Markdown."`
	Probe     probeCommand     `cmd:"" help:"${probe}"`
	Conform   conformCommand   `cmd:"" help:"${conform}"`
	Record    recordCommand    `cmd:"" help:"${record}"`
	Import    importCommand    `cmd:"" help:"Make a recording out of a HAR file, as browsers export it."`
	Replay    replayCommand    `cmd:"" help:"${replay}"`
	Compare   compareCommand   `cmd:"" help:"Run a trial over each of its target's routes, and put them side by side."`
	Survey    surveyCommand    `cmd:"" help:"Look for each known weakness of a server."`
	Capacity  capacityCommand  `cmd:"" help:"Find out how many clients a server bears, or how much of a variable."`
	Selfcheck selfcheckCommand `cmd:"" help:"${selfcheck}"`
	Runs      runsCommand      `cmd:"" help:"List the runs that are kept; show, name, note or delete one."`
	Export    exportCommand    `cmd:"" help:"Write a view of a kept run as a drawing or a table."`
	Join      joinCommand      `cmd:"" help:"Offer this machine to runs that another one leads."`
	Standin   standinCommand   `cmd:"" help:"${standin}"`

	Work       workCommand       `cmd:"" hidden:"" help:"Serve some clients of a run that another process leads."`
	Help       helpCommand       `cmd:"" help:"Say what a command does, and which flags it has."`
	About      versionCommand    `cmd:"" name:"version" help:"Print the version, the commit and its date."`
	Completion completionCommand `cmd:"" help:"Write completion for a shell: source <(tidepull completion bash)."`
	Man        manCommand        `cmd:"" help:"Write the manual page: tidepull man > tidepull.1."`

	Version kong.VersionFlag `help:"Print the version."`
}

// An exitError ends the process with a status after what it says, if anything.
type exitError struct {
	status int
	text   string
}

func (e *exitError) Error() string { return e.text }

// memoryFor is how much memory there may be before it is collected more often, for so many clients. What servers make
// the tool hold is bounded, but for a moment twice as much may lie on the heap.
func memoryFor(clients int) int64 { return 1<<30 + int64(clients)*(32<<10) }

func main() {
	// What the arguments are read with is not worth collecting: it is done in an instant.
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(memoryFor(0))
	os.Exit(mainStatus(os.Args[1:]))
}

// mainStatus runs the command that the arguments name, and returns the exit status
// (docs/verdict.md). Everything that must be closed is, before the process exits.
func mainStatus(args []string) int {
	parsed, c, err := parse(args)
	if err != nil {
		fmt.Fprintf(os.Stderr, "tidepull: %v\ntry tidepull --help\n", err)
		return exitWrong
	}
	// Most of what is on the heap stays: what idle clients are. Little is made anew,
	// so collecting it often costs next to nothing, and halves the memory of a client.
	debug.SetGCPercent(50)
	log, closeLog := openLog(c.Log)
	defer closeLog()
	a := &app{log: log, storePath: c.Store}
	defer a.close()
	err = parsed.Run(a)
	status := statusOf(err)
	var quiet *exitError
	if err != nil && !(errors.As(err, &quiet) && quiet.text == "") {
		fmt.Fprintf(os.Stderr, "tidepull: %v\n", err)
	}
	if err != nil {
		log.Error("ends", "error", err, "status", status)
	}
	return status
}

// parse reads the arguments. The argument library works through all that is declared, which takes
// longer than all the rest of a start: it is told of the command alone that the first argument
// names, and of all of them only if that does not do.
func parse(args []string) (*kong.Context, *commands, error) {
	first := "home"
	if len(args) > 0 {
		first = args[0]
	}
	all := reflect.TypeFor[commands]()
	var some []reflect.StructField
	known := first == "--version"
	for _, f := range reflect.VisibleFields(all) {
		_, isCommand := f.Tag.Lookup("cmd")
		named := isCommand && (strings.ToLower(f.Name) == first || f.Tag.Get("name") == first)
		known = known || named
		if !isCommand || named {
			some = append(some, f)
		}
	}
	if known {
		if parsed, c, err := parseAs(reflect.StructOf(some), args); err == nil {
			return parsed, c, nil
		}
	}
	return parseAs(all, args)
}

// parseAs reads the arguments by some or all of the fields of commands.
func parseAs(declared reflect.Type, args []string) (*kong.Context, *commands, error) {
	into := reflect.New(declared)
	parsed, err := parserOf(into).Parse(args)
	field := func(name string) string { return into.Elem().FieldByName(name).String() }
	return parsed, &commands{Log: field("Log"), Store: field("Store")}, err
}

// parserOf makes what reads arguments into a pointer to commands, or to some of their fields.
func parserOf(into reflect.Value) *kong.Kong {
	parser, err := kong.New(into.Interface(), kong.Name("tidepull"), kong.Description(description),
		kong.Vars{"version": versionInFull()}, helpTexts,
		kong.ConfigureHelp(kong.HelpOptions{Compact: true}), kong.UsageOnError())
	if err != nil {
		panic(err) // the declaration above is wrong
	}
	return parser
}

// statusOf gives the exit status that an error stands for: what a pipeline goes by,
// and so part of the interface.
func statusOf(err error) int {
	var exit *exitError
	var wrong *language.Errors
	var tooMany *run.TooMany
	var unreachable *engine.Unreachable
	switch {
	case err == nil:
		return exitHolds
	case errors.As(err, &exit):
		return exit.status
	case errors.As(err, &unreachable):
		return exitUnreachable
	case errors.As(err, &wrong), errors.As(err, &tooMany):
		return exitWrong
	}
	return exitWrong
}
