package control

import (
	"net"

	"golang.org/x/sys/unix"
)

// KnowsCallers tells that the system says who is at the other end of a local socket.
const KnowsCallers = true

// peerUser is the user at the other end of a local socket, with their group (SO_PEERCRED).
func peerUser(conn net.Conn) (uid, gid int, ok bool) {
	local, isLocal := conn.(*net.UnixConn)
	if !isLocal {
		return 0, 0, false
	}
	raw, err := local.SyscallConn()
	if err != nil {
		return 0, 0, false
	}
	_ = raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			uid, gid, ok = int(cred.Uid), int(cred.Gid), true
		}
	})
	return uid, gid, ok
}
