package editor

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"fencepost/diag"
	"fencepost/internal/ops"
)

// codeActions offers the mechanical mends of findings in a range, and all of them as
// one.
func (s *server) codeActions(_ context.Context, params json.RawMessage) (any, error) {
	var p actionParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	actions := []codeAction{}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return actions, nil
	}
	wants := func(kind string) bool {
		return len(p.Context.Only) == 0 || slices.ContainsFunc(p.Context.Only, func(o string) bool { return kind == o || strings.HasPrefix(kind, o+".") })
	}
	b := s.current(d)
	var all []diag.Edit
	for i := range b.Diags.All {
		f := &b.Diags.All[i]
		if f.Fix == nil {
			continue
		}
		if len(all) < mostMends && !overlaps(all, f.Fix.Edits) {
			all = append(all, f.Fix.Edits...)
		}
		uri, r := place(b, d.uri, f.Span)
		if !wants("quickfix") || uri != d.uri || r.End.Line < p.Range.Start.Line || r.Start.Line > p.Range.End.Line {
			continue
		}
		title := f.Suggestion
		if title == "" {
			title = "mend " + f.Rule.Code
		}
		actions = append(actions, codeAction{title, "quickfix", true, workspaceEdit{changesOf(b, d.uri, f.Fix.Edits)}})
	}
	if len(all) > 0 && wants(fixAll) {
		actions = append(actions, codeAction{"mend all that can be mended", fixAll, false, workspaceEdit{changesOf(b, d.uri, all)}})
	}
	return actions, nil
}

// mostMends bounds how many mends are made as one; the rest come with the next.
const mostMends = 1000

// overlaps reports whether two mends touch the same text: then only one can be made at a
// time.
func overlaps(have, more []diag.Edit) bool {
	for _, a := range have {
		for _, b := range more {
			if a.Span.Start < b.Span.End && b.Span.Start < a.Span.End || a.Span.Start == b.Span.Start {
				return true
			}
		}
	}
	return false
}

// changesOf are edits as changes of documents.
func changesOf(b *ops.Buffer, own string, edits []diag.Edit) map[string][]textEdit {
	changes := map[string][]textEdit{}
	for _, e := range edits {
		uri, r := place(b, own, e.Span)
		changes[uri] = append(changes[uri], textEdit{r, e.New})
	}
	return changes
}
