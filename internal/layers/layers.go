// Package layers holds the house in order: its test reads every import and
// compares it with the layers below. ARCHITECTURE.md explains them.
package layers

// Of gives the layer of each package. A package may import those of lower
// layers, and none of its own, but for the pairs in Allowed.
var Of = map[string]int{
	"internal/mono":          0,
	"internal/bitset":        0,
	"internal/mark":          0,
	"internal/plain":         0,
	"internal/secret":        1,
	"internal/units":         0,
	"internal/wire":          0,
	"internal/wire/http1":    1,
	"internal/wire/jsonscan": 1,
	"internal/wire/ws":       2,
	"internal/expr":          2,
	"internal/ledger":        2,
	"internal/meter":         2,
	"internal/logbook":       3,
	"internal/lane":          3,
	"internal/recording":     3,
	"internal/relay":         5,
	"internal/probe":         5,
	"internal/replay":        4,
	"internal/play":          6,
	"internal/trial":         3,
	"internal/board":         3,
	"internal/client":        4,
	"internal/poll":          4,
	"internal/machine":       4,
	"internal/engine":        5,
	"internal/standin":       5,
	"internal/language":      5,
	"internal/sim":           5,
	"internal/sim/rude":      5,
	"internal/run":           6,
	"internal/headless":      7,
	"internal/store":         7,
	"internal/chart":         7,
	"internal/export":        8,
	"internal/tui/look":      7,
	"internal/tui/scene":     8,
	"internal/tui/tide":      9,
	"internal/tui/watch":     10,
	"internal/tui/fanout":    10,
	"internal/tui/lanes":     10,
	"internal/tui/balance":   11,
	"internal/tui/home":      10,
	"internal/tui/probing":   10,
	"internal/tui":           12,
	"internal/layers":        0,
	"internal/leak":          0,
	"trials":                 0,
	"bench":                  13,
	"cmd/tidepull":           13,
}

// Pure is the highest layer whose packages, Impure aside, touch neither the
// network, nor files, nor the system, and start no goroutine.
const Pure = 4

// Impure are the exceptions to Pure.
var Impure = map[string]bool{"internal/leak": true, "internal/poll": true, "internal/machine": true}

// Alone are libraries that only some packages may know, by the library's path
// or the start of it.
var Alone = map[string][]string{
	"golang.org/x/sys":          {"internal/poll"},
	"github.com/hashicorp/hcl":  {"internal/language", "internal/replay"},
	"github.com/zclconf":        {"internal/language"},
	"charm.land/bubbletea":      {"internal/tui"},
	"charm.land/bubbles":        {"internal/tui"},
	"charm.land/lipgloss":       {"internal/tui"},
	"github.com/alecthomas":     {"cmd/tidepull"},
	"github.com/gobwas":         {"internal/wire/ws"},
	"github.com/dustin":         {"internal/units"},
	"github.com/HdrHistogram":   {"internal/export"},
	"modernc.org/sqlite":        {"internal/store", "internal/standin"},
	"database/sql":              {"internal/store", "internal/standin"},
	"github.com/adrg/xdg":       {"internal/store", "cmd/tidepull"},
	"gonum.org":                 {"internal/chart"},
	"github.com/prometheus":     {"internal/export"},
	"github.com/charmbracelet/": {"internal/tui", "internal/language", "cmd/tidepull"},
}
