package zone_test

import "runtime/debug"

// The tests make much garbage, and little of it at a time.
func init() { debug.SetGCPercent(400) }
