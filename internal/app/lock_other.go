//go:build !unix

package app

// lockFolder does nothing where there are no locks of folders.
func lockFolder(string) (unlock func(), err error) { return func() {}, nil }

func tryLockFolder(string) (unlock func(), err error) { return func() {}, nil }
