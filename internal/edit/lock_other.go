//go:build !unix

package edit

// TryLockFolder does nothing where there are no locks of folders.
func TryLockFolder(string) (unlock func(), err error) { return func() {}, nil }
