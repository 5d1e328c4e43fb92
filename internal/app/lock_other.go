//go:build !unix

package app

// tryLockFolder does nothing where there are no locks of folders.
func tryLockFolder(string) (unlock func(), err error) { return func() {}, nil }
