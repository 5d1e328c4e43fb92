// Package control is the way in to a running server: HTTP over a socket in the
// workspace's state folder that only its owner can reach. A command is a POST to
// /v1/COMMAND with a Request as JSON; the answer is a Response as JSON, or text. The 1
// is the version of both.
package control

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"fencepost/wholefile"
)

// ErrForeign means that something else than our socket stands in its place.
var ErrForeign = errors.New("is not the control socket of a server of ours")

// ours reports whether path is a socket, and of somebody we trust with what is said there
// (private keys among it): ourselves, root, or, for root, whoever the folder belongs to.
// trust is one more user who is trusted; negative: nobody.
func ours(path string, trust int) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	foreign := func(what string) error { return fmt.Errorf("%s %w: it is %s", path, ErrForeign, what) }
	if info.Mode().Type() != fs.ModeSocket {
		return foreign("no socket; name another place in [serve] control")
	}
	folder, err := os.Stat(filepath.Dir(path))
	if err != nil {
		return err
	}
	me, owner, of := os.Geteuid(), info.Sys().(*syscall.Stat_t).Uid, folder.Sys().(*syscall.Stat_t).Uid
	if int(owner) == trust || trusted(me, int(owner), int(of)) {
		return nil
	}
	return foreign(fmt.Sprintf("a socket of the user with number %d; run this as that user", owner))
}

// nobody is no user.
const nobody = -1

// trusted reports whether the user me may speak to a socket of owner in a folder of the
// user folder.
func trusted(me, owner, folder int) bool {
	return owner == me || owner == 0 || me == 0 && owner == folder
}

// Listen opens the socket at path. A socket left over from a server that was
// killed is replaced; one that is answered is an error, and so is anything else that
// stands there: it is never removed.
func Listen(path string) (net.Listener, error) {
	if err := wholefile.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	switch err := ours(path, nobody); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, err
	default:
		if c, err := net.DialTimeout("unix", short(path), time.Second); err == nil {
			c.Close()
			return nil, fmt.Errorf("%s: another fencepost is running on this workspace", path)
		}
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	old := syscall.Umask(0o177) // from the first moment on the owner's only
	defer syscall.Umask(old)
	return net.Listen("unix", short(path))
}

// Open says whether others than the owner may reach a socket: their commands are to be looked at by who
// they are. Its folder lets them through then, and shows them nothing.
func Open(path string, open bool) error {
	mode := fs.FileMode(0o600)
	if open {
		mode = 0o666
		const through = 0o011
		folder := filepath.Dir(path)
		info, err := os.Stat(folder)
		if err == nil && info.Mode().Perm()&through != through {
			err = os.Chmod(folder, info.Mode().Perm()|through)
		}
		if err != nil {
			return err
		}
	}
	return os.Chmod(path, mode)
}

// short is the path in the shortest way it can be written: socket names are
// limited to about 100 octets.
func short(path string) string {
	const limit = 100
	if len(path) < limit {
		return path
	}
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, path); err == nil && len(rel) < len(path) {
			return rel
		}
	}
	return path
}
