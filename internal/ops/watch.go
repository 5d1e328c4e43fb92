package ops

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"fencepost/wholefile"
	"fencepost/workspace"
)

// settleTime is how long files must be quiet before they are looked at: editors
// save in several steps.
const settleTime = 100 * time.Millisecond

// timesTick is by how much the times of files may be behind the clock.
const timesTick = 20 * time.Millisecond

// Watch calls check now and after each change of a file that it looked at, until
// ctx is done. check returns the paths to watch; their folders are watched, since
// editors put a new file in the place of the old.
func (a *App) Watch(ctx context.Context, check func() (paths []string, err error)) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	watched, files := map[string]bool{}, map[string]bool{}
	quiet := time.NewTimer(0)
	<-quiet.C
	again := func() error {
		begin := time.Now().Add(-timesTick)
		paths, err := check()
		if err != nil {
			return err
		}
		fresh := false
		for _, p := range paths {
			files[filepath.Clean(p)] = true
			if dir := filepath.Dir(p); !watched[dir] {
				if err := w.Add(dir); err != nil {
					return err
				}
				watched[dir] = true
				fresh = true
			}
		}
		if !fresh {
			return nil
		}
		for _, p := range paths { // nobody told of what was written between the check and now
			if mark, err := wholefile.MarkOf(p); err != nil || mark.MTime > begin.UnixNano() {
				quiet.Reset(settleTime)
			}
		}
		return nil
	}
	if err := again(); err != nil {
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case ev, ok := <-w.Events:
			if !ok {
				return nil
			}
			if ev.Op != fsnotify.Chmod && concerns(files, ev.Name) {
				quiet.Reset(settleTime)
			}
		case err := <-w.Errors:
			return err
		case <-quiet.C:
			if err := again(); err != nil {
				return err
			}
		}
	}
}

// concerns reports whether a file is one that was looked at, or a new zone. Others in
// their folders are nothing to us, such as one that takes what we say.
func concerns(looked map[string]bool, path string) bool {
	path = filepath.Clean(path)
	return looked[path] || strings.HasSuffix(path, workspace.ZoneSuffix) && filepath.Base(path)[0] != '.'
}
