//go:build !linux

package memdir

func roomy(string) bool { return false }
