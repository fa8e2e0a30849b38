package engine

import (
	"os"
	"testing"

	"tidepull/internal/testkit/leak"
)

func TestMain(m *testing.M) { os.Exit(leak.Main(m)) }
