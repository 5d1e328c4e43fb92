//go:build !linux

package testrun

func roomy(string) bool { return false }
