package eventlog

import (
	"os"
	"testing"

	"fencepost/internal/memdir"
)

func TestMain(m *testing.M) {
	memdir.Use()
	os.Exit(m.Run())
}
