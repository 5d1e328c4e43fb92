//go:build !linux

package wholefile

import "os"

// MarkOf is the mark of a file as it is now, links followed. The time of its last change of
// any kind, and which file it is, are not told in one way by all systems: a file that was put
// in the place of another with its size and time counts as that one.
func MarkOf(path string) (m Mark, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return m, err
	}
	return Mark{Size: info.Size(), MTime: info.ModTime().UnixNano()}, nil
}
