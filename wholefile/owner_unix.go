//go:build unix

package wholefile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// keepOwner gives a file the owner of the one that it replaces, where we may: an
// edit by root must not lock out the user of a server.
func keepOwner(f *os.File, old fs.FileInfo) {
	if st, ok := old.Sys().(*syscall.Stat_t); ok {
		_ = f.Chown(int(st.Uid), int(st.Gid))
	}
}

// ErrOthersLink means that a path leads over a symbolic link that somebody else made.
var ErrOthersLink = errors.New("root does not follow a symbolic link that another user made: do this as that user, or make the link as root")

// mostLinks is how many symbolic links one path may lead over.
const mostLinks = 40

// Trusted is an error where root would follow a symbolic link that another user made to what it is
// about to write: whoever owns a workspace could have it write anywhere.
func Trusted(path string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	whole, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	return trusted(whole, mostLinks)
}

func trusted(path string, links int) error {
	at, rest := string(filepath.Separator), path
	for rest != "" {
		var part string
		part, rest, _ = strings.Cut(strings.TrimLeft(rest, string(filepath.Separator)), string(filepath.Separator))
		next := filepath.Join(at, part)
		info, err := os.Lstat(next)
		if err != nil {
			return nil // whoever writes says why that cannot be done
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			at = next
			continue
		}
		if st, ok := info.Sys().(*syscall.Stat_t); !ok || st.Uid != 0 || links == 0 {
			return &fs.PathError{Op: "write", Path: next, Err: ErrOthersLink}
		}
		to, err := os.Readlink(next)
		if err != nil {
			return err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(at, to)
		}
		return trusted(filepath.Join(to, rest), links-1)
	}
	return nil
}
