package editor

import (
	"encoding/json"
	"strings"

	"fencepost/internal/ops"
)

// expectationWords completes files of expectations; nil for other documents.
func (s *server) expectationWords(params json.RawMessage) (any, error) {
	sp, err := s.place(params)
	if sp == nil || !strings.HasSuffix(sp.b.Path, ops.ExpectSuffix) {
		return nil, err
	}
	items := []completionItem{}
	for _, w := range sp.b.ExpectationWords(sp.off) {
		kind := kindValue
		if w.Language {
			kind = kindKeyword
		}
		items = append(items, completionItem{Label: w.Text, Kind: kind, Detail: w.Detail})
	}
	return items, nil
}
