package ops

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fencepost/internal/edit"
	"fencepost/keymanager"
	"fencepost/lint"
	"fencepost/source"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zoneload"
)

// A stamp says what a zone was read from, so that files that are as they were need not be
// read again. It is a line for what decides on how they are read, and one for each file:
// size, time of the last change of content and of the file, inode, checksum, path. A checksum
// stands where the file had been changed just before it was read: what is written within
// the same tick of the clock leaves the times as they are.
const stampVersion = "1"

// fileStamp is one file of a stamp.
type fileStamp struct {
	wholefile.Mark
	digest string // checksum of the content; empty: the times tell
	path   string
}

func (f *fileStamp) String() string {
	return fmt.Sprintf("%d %d %d %d %s %q", f.Size, f.MTime, f.CTime, f.Inode, orMinus(f.digest), f.path)
}

func orMinus(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// makeStamp is the stamp of files that were read from begin on; empty where one of them is
// gone already.
func makeStamp(settings string, files []*source.File, begin time.Time) string {
	lines := []string{stampHead(settings)}
	seen := map[string]bool{}
	for _, f := range files {
		if seen[f.Name] {
			continue
		}
		seen[f.Name] = true
		path, err := filepath.Abs(f.Name) // whoever looks again may be in another folder
		if err != nil {
			return ""
		}
		mark, err := wholefile.MarkOf(path)
		if err != nil {
			return ""
		}
		st := fileStamp{Mark: mark, path: path}
		if st.ChangedAfter(begin) {
			st.digest = sumOf(f.Content)
		}
		lines = append(lines, st.String())
	}
	return strings.Join(lines, "\n")
}

// stampHead is the first line of a stamp.
func stampHead(settings string) string { return stampVersion + " " + settings }

// stampedFor reports whether what a stamp is of was read as settings say.
func stampedFor(stamp, settings string) bool {
	head, _, _ := strings.Cut(stamp, "\n")
	return head == stampHead(settings)
}

// stillStamped reports whether all files are as a stamp says. The stamp it returns is for
// next time.
func stillStamped(stamp, settings string) (again string, ok bool) {
	lines := strings.Split(stamp, "\n")
	if lines[0] != stampHead(settings) {
		return "", false
	}
	now := time.Now()
	for i, l := range lines[1:] {
		was, err := parseFileStamp(l)
		if err != nil {
			return "", false
		}
		is, err := wholefile.MarkOf(was.path)
		if err != nil || is != was.Mark {
			return "", false
		}
		if was.digest == "" {
			continue
		}
		text, err := wholefile.Read(was.path, zoneload.MaxFile)
		if err != nil || sumOf(text) != was.digest {
			return "", false
		}
		if !is.ChangedAfter(now) {
			lines[i+1] = (&fileStamp{Mark: is, path: was.path}).String()
		}
	}
	return strings.Join(lines, "\n"), true
}

// stampOfFiles is an error unless a stamp is of the zone file at path, and besides of files that
// it may include, as they are now.
func stampOfFiles(stamp string, r *zoneload.Reader, path string) error {
	main := false
	for _, l := range strings.Split(stamp, "\n")[1:] {
		was, err := parseFileStamp(l)
		if err != nil {
			return err
		}
		switch {
		case edit.SameFile(was.path, path):
			main = true
		case r.Includable(path, was.path) != nil:
			return fmt.Errorf("it names %s, which is not a file of the zone", edit.Shown(was.path))
		}
		if is, err := wholefile.MarkOf(was.path); err != nil || is != was.Mark {
			return fmt.Errorf("%s is not as it was when it was checked", edit.Shown(was.path))
		}
	}
	if !main {
		return fmt.Errorf("it is not about %s", edit.Shown(path))
	}
	return nil
}

// sumOf tells contents of one length apart that were written in one moment.
func sumOf(text []byte) string {
	return fmt.Sprintf("%08x%08x", crc32.ChecksumIEEE(text), crc32.Checksum(text, crc32.MakeTable(crc32.Castagnoli)))
}

func parseFileStamp(line string) (f fileStamp, err error) {
	const fields = 6
	parts := strings.SplitN(line, " ", fields)
	if len(parts) != fields {
		return f, errors.New("this is not a stamp of a file")
	}
	numbers := [4]uint64{}
	for i := range numbers {
		n, err := strconv.ParseInt(parts[i], 10, 64)
		if err != nil {
			return f, err
		}
		numbers[i] = uint64(n)
	}
	f.Mark = wholefile.Mark{Size: int64(numbers[0]), MTime: int64(numbers[1]), CTime: int64(numbers[2]), Inode: numbers[3]}
	if parts[4] != "-" {
		f.digest = parts[4]
	}
	f.path, err = strconv.Unquote(parts[5])
	return f, err
}

// thisProgram tells builds of the program apart: another one may check more.
var thisProgram = sync.OnceValue(func() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	return info.String()
})

// howRead is what decides, besides the files, on what becomes of the zones with each
// policy; nil is that of zones that are not signed.
func howRead(c *workspace.Config) map[*keymanager.Policy]string {
	var b bytes.Buffer
	fmt.Fprintln(&b, thisProgram(), c.IncludeFrom)
	appendSettings(&b, c.Checks)
	out := map[*keymanager.Policy]string{nil: edit.DigestOf(b.Bytes())}
	for _, p := range c.Policies {
		out[p] = edit.DigestOf(fmt.Appendf(bytes.Clone(b.Bytes()), "%+v", *p))
	}
	return out
}

func appendSettings(b *bytes.Buffer, s *lint.Settings) {
	if s == nil {
		return
	}
	var all []string
	for code, severity := range s.Severity {
		all = append(all, fmt.Sprint(code, " ", severity))
	}
	for _, a := range s.Allow {
		all = append(all, fmt.Sprint("allow ", a.Code, " ", a.Zone, " ", a.Owner))
	}
	slices.Sort(all)
	fmt.Fprintln(b, s.Strict, all)
}
