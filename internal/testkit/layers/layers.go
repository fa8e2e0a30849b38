// Package layers holds the house in order: its test reads every import and
// compares it with the layers below. ARCHITECTURE.md explains them.
package layers

// Of gives the layer of each package. A package may import those of lower
// layers, and none of its own.
var Of = map[string]int{
	"internal/base/maybe":        0,
	"internal/base/due":          1,
	"internal/base/mono":         0,
	"internal/base/bitset":       0,
	"internal/measure/mark":      0,
	"internal/base/queue":        0,
	"internal/base/plain":        0,
	"internal/base/secret":       1,
	"internal/base/units":        0,
	"internal/wire":              0,
	"internal/wire/eventstream":  1,
	"internal/wire/http1":        1,
	"internal/wire/jsonscan":     1,
	"internal/wire/ws":           2,
	"internal/wire/transport":    3,
	"internal/trial/expr":        2,
	"internal/measure/ledger":    2,
	"internal/measure/meter":     2,
	"internal/measure/logbook":   3,
	"internal/measure/lane":      3,
	"internal/measure/fact":      4,
	"internal/measure/account":   5,
	"internal/capture/recording": 3,
	"internal/capture/relay":     8,
	"internal/capture/probe":     8,
	"internal/capture/conform":   8,
	"internal/capture/replay":    9,
	"internal/capture/play":      10,
	"internal/trial":             4,
	"internal/standin/board":     3,
	"internal/client":            6,
	"internal/engine/poll":       6,
	"internal/engine/machine":    6,
	"internal/engine/process":    7,
	"internal/engine/pressure":   7,
	"internal/engine/secure":     7,
	"internal/engine/tunnel":     7,
	"internal/engine/impair":     7,
	"internal/engine/traffic":    8,
	"internal/engine":            9,
	"internal/standin":           8,
	"internal/trial/language":    7,
	"internal/testkit/sim":       7,
	"internal/testkit/rude":      7,
	"internal/run":               10,
	"internal/report/headless":   11,
	"internal/report/store":      11,
	"internal/report/chart":      9,
	"internal/report/export":     12,
	"internal/report/compare":    12,
	"internal/tui/look":          9,
	"internal/tui/scene":         11,
	"internal/tui/tide":          12,
	"internal/tui/watch":         13,
	"internal/tui/fanout":        13,
	"internal/tui/lanes":         13,
	"internal/tui/balance":       14,
	"internal/tui/routes":        13,
	"internal/tui/recovery":      13,
	"internal/tui/pulse":         13,
	"internal/tui/home":          13,
	"internal/tui/probing":       13,
	"internal/tui":               15,
	"internal/testkit/layers":    0,
	"internal/testkit/leak":      0,
	"internal/testkit/port":      0,
	"internal/testkit/cost":      0,
	"trials":                     0,
	"bench":                      16,
	"scripts/mutants":            16,
	"cmd/tidepull":               16,
}

// Pure is the highest layer whose packages, Impure aside, touch neither the
// network, nor files, nor the system, and start no goroutine.
const Pure = 6

// Impure are the exceptions to Pure.
var Impure = map[string]bool{"internal/testkit/leak": true, "internal/testkit/port": true,
	"internal/testkit/cost": true,
	"internal/engine/poll":  true, "internal/engine/machine": true}

// Cookies is the package of a Pure layer that may use net/http: for its parsers of
// cookies, which are functions over strings.
const Cookies = "internal/wire/http1"

// Alone are libraries that only some packages may know, by the library's path
// or the start of it.
var Alone = map[string][]string{
	"golang.org/x/sys":          {"internal/engine/poll", "internal/engine/traffic"},
	"github.com/hashicorp/hcl":  {"internal/trial/language"},
	"github.com/zclconf":        {"internal/trial/language"},
	"charm.land/bubbletea":      {"internal/tui"},
	"charm.land/bubbles":        {"internal/tui"},
	"charm.land/lipgloss":       {"internal/tui"},
	"github.com/alecthomas":     {"cmd/tidepull"},
	"github.com/HdrHistogram":   {"internal/report/export"},
	"modernc.org/sqlite":        {"internal/report/store", "internal/standin"},
	"database/sql":              {"internal/report/store", "internal/standin"},
	"github.com/adrg/xdg":       {"internal/report/store", "cmd/tidepull"},
	"gonum.org":                 {"internal/report/chart"},
	"github.com/prometheus":     {"internal/report/export"},
	"github.com/charmbracelet/": {"internal/tui", "internal/trial/language", "cmd/tidepull"},
}
