package control

import (
	"net"

	"golang.org/x/sys/unix"
)

// peerUID is the user at the other end of a local socket (SO_PEERCRED).
func peerUID(conn net.Conn) (uid int, ok bool) {
	local, isLocal := conn.(*net.UnixConn)
	if !isLocal {
		return 0, false
	}
	raw, err := local.SyscallConn()
	if err != nil {
		return 0, false
	}
	_ = raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			uid, ok = int(cred.Uid), true
		}
	})
	return uid, ok
}
