package childsync_test

import (
	"os"
	"testing"

	"fencepost/internal/testrun"
)

func TestMain(m *testing.M) { os.Exit(testrun.Main(m)) }
