package testrun

import "syscall"

const (
	tmpfs  = 0x01021994 // the kind of file system (statfs(2))
	noExec = 8
)

// roomy reports whether a folder is in memory, has room, and programs may be run from it.
func roomy(dir string) bool {
	var st syscall.Statfs_t
	return syscall.Statfs(dir, &st) == nil && int64(st.Type) == tmpfs && st.Flags&noExec == 0 && st.Bavail*uint64(st.Bsize) >= least &&
		syscall.Access(dir, 2|1) == nil
}
