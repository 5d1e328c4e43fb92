package editor

import (
	"encoding/json"
	"strings"

	"fencepost/internal/ops"
)

// expectationWords completes files of expectations; nil for other documents.
func (s *server) expectationWords(params json.RawMessage) (any, error) {
	var p positionParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	b := s.current(d)
	if !strings.HasSuffix(b.Path, ops.ExpectSuffix) {
		return nil, nil
	}
	items := []completionItem{}
	for _, w := range b.ExpectationWords(offset(b.Text, lineStarts(b.Text), p.Position)) {
		kind := kindValue
		if w.Language {
			kind = kindKeyword
		}
		items = append(items, completionItem{Label: w.Text, Kind: kind, Detail: w.Detail})
	}
	return items, nil
}
