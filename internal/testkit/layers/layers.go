// Package layers holds the house in order: its test reads every import and
// compares it with the layers below. ARCHITECTURE.md explains them.
package layers

// Groups are the groups of packages as the map draws them, from the bottom up. A package may import
// what is in its own group, in which Go itself sees to it that nothing goes round, and in those below.
var Groups = []string{"internal/base", "internal/wire", "internal/measure", "internal/trial", "internal/client",
	"internal/engine", "internal/standin", "internal/capture", "internal/finding",
	"internal/run", "internal/survey", "internal/report", "internal/tui",
	"cmd", "bench"}

// Apart are packages that are in none of them, with the highest group that they know; "": none.
var Apart = map[string]string{
	"internal/capacity": "", "trials": "", "scripts/mutants": "", "internal/testkit/layers": "",
	"internal/testkit/leak": "",
	"internal/testkit/port": "", "internal/testkit/cost": "", "internal/testkit/sim": "internal/engine",
	"internal/testkit/rude": "internal/engine",
}

// Pure are the groups in which the packages, Impure aside, touch neither the network, nor files, nor the
// system, and start no goroutine; and packages of other groups of which that is true as well.
var Pure = []string{"internal/base", "internal/wire", "internal/measure", "internal/trial", "internal/client",
	"internal/engine/account", "internal/finding",
	"internal/standin/board", "internal/capture/recording", "internal/capacity"}

// Impure are the exceptions to Pure.
var Impure = map[string]bool{"internal/trial/language": true}

// Cookies is the package of a Pure group that may use net/http: for its parsers of
// cookies, which are functions over strings.
const Cookies = "internal/wire/http1"

// Alone are libraries that only some packages may know, by the library's path
// or the start of it.
var Alone = map[string][]string{
	"golang.org/x/sys":          {"internal/engine/poll", "internal/engine/traffic", "bench"},
	"github.com/hashicorp/hcl":  {"internal/trial/language"},
	"github.com/zclconf":        {"internal/trial/language"},
	"charm.land/bubbletea":      {"internal/tui"},
	"charm.land/bubbles":        {"internal/tui"},
	"charm.land/lipgloss":       {"internal/tui"},
	"github.com/alecthomas":     {"cmd/tidepull"},
	"github.com/HdrHistogram":   {"internal/report/export"},
	"github.com/nats-io":        {"internal/engine/workers"},
	"modernc.org/sqlite":        {"internal/report/store", "internal/standin"},
	"database/sql":              {"internal/report/store", "internal/standin"},
	"github.com/adrg/xdg":       {"internal/report/store", "cmd/tidepull"},
	"gonum.org":                 {"internal/report/chart"},
	"github.com/prometheus":     {"internal/report/export"},
	"github.com/charmbracelet/": {"internal/tui", "internal/trial/language", "cmd/tidepull"},
}
