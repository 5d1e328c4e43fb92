package ops

import (
	"bytes"
	"context"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// authorWait is how long the version control is waited for.
const authorWait = 2 * time.Second

// gitAuthor is who committed a file last; empty where it is not under version control,
// has changes that are not committed, or that cannot be told.
func gitAuthor(ctx context.Context, path string) string {
	ctx, cancel := context.WithTimeout(ctx, authorWait)
	defer cancel()
	run := func(args ...string) ([]byte, error) {
		// Nothing of the repository's own configuration is run.
		args = append([]string{"-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null"}, args...)
		cmd := exec.CommandContext(ctx, "git", append(args, "--", filepath.Base(path))...)
		cmd.Dir = filepath.Dir(path)
		return cmd.Output()
	}
	if changed, err := run("--no-optional-locks", "status", "--porcelain"); err != nil || len(bytes.TrimSpace(changed)) > 0 {
		return ""
	}
	out, err := run("log", "-1", "--format=%an, %h")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}
