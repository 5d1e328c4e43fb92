package ops

import (
	"path/filepath"
	"sync"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/wholefile"
	"fencepost/workspace"
	"fencepost/zonefile"
)

// NameIndex is the names of the zones of a workspace, for an editor: each file is read when it has
// changed. It is safe for concurrent use.
type NameIndex struct {
	mu    sync.Mutex
	files map[string]indexedNames
}

type indexedNames struct {
	mark  wholefile.Mark
	names []dnsname.Name
}

// Others are the names that zones beside the buffer's own have, each file's in its order.
func (x *NameIndex) Others(b *Buffer) (out []dnsname.Name) {
	dir, err := b.app.Dir()
	if err != nil {
		return nil
	}
	paths, _ := filepath.Glob(filepath.Join(dir, workspace.ZonesDir, "*"+workspace.ZoneSuffix))
	x.mu.Lock()
	defer x.mu.Unlock()
	next := map[string]indexedNames{}
	for _, path := range paths {
		if path == b.Path || edit.OriginOf(path).IsZero() {
			continue
		}
		mark, err := wholefile.MarkOf(path)
		if err != nil {
			continue
		}
		known, ok := x.files[path]
		if _, opened := b.open[path]; opened || !ok || known.mark != mark {
			known = indexedNames{mark, b.namesIn(path)}
			if opened {
				known.mark = wholefile.Mark{}
			}
		}
		next[path] = known
		out = append(out, known.names...)
	}
	x.files = next
	return out
}

// namesIn are the owners in another zone file, each once.
func (b *Buffer) namesIn(path string) (out []dnsname.Name) {
	_, f := b.other(path)
	if f == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, e := range f.All {
		if e.Kind != zonefile.Record {
			continue
		}
		if n, err := dnsname.FromWire(e.Owner); err == nil && !seen[n.Key()] {
			seen[n.Key()] = true
			out = append(out, n)
		}
	}
	return out
}
