package wholefile

import "time"

// Mark is what the system tells of a file without reading it: while it stays the same the
// content does too, if the file had not just been changed when the mark was taken.
type Mark struct {
	Size         int64
	MTime, CTime int64 // last change of the content, and of any kind; nanoseconds since 1970
	Inode        uint64
}

// settled is how long ago a change has to lie for the times to tell of the next one: what is
// written within the same tick of the clock leaves them as they are.
const settled = 2 * time.Second

// Fresh reports whether the file was changed just now, so that another change may leave the
// mark as it is.
func (m Mark) Fresh() bool { return m.ChangedAfter(time.Now()) }

// ChangedAfter reports whether the file was changed later than, or not long before, a time.
func (m Mark) ChangedAfter(t time.Time) bool {
	return max(m.MTime, m.CTime) > t.Add(-settled).UnixNano()
}
