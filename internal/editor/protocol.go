package editor

// The parts of the Language Server Protocol 3.17 that are used here. Lines and
// characters count from 0; characters are UTF-16 code units.
type (
	position struct {
		Line      int `json:"line"`
		Character int `json:"character"`
	}
	textRange struct {
		Start position `json:"start"`
		End   position `json:"end"`
	}
	location struct {
		URI   string    `json:"uri"`
		Range textRange `json:"range"`
	}
	diagnostic struct {
		Range    textRange `json:"range"`
		Severity int       `json:"severity"`
		Code     string    `json:"code"`
		Source   string    `json:"source"`
		Message  string    `json:"message"`
		Related  []related `json:"relatedInformation,omitempty"`
	}
	related struct {
		Location location `json:"location"`
		Message  string   `json:"message"`
	}
	publishParams struct {
		URI         string       `json:"uri"`
		Version     *int         `json:"version,omitempty"`
		Diagnostics []diagnostic `json:"diagnostics"`
	}
	textDocument struct {
		URI     string `json:"uri"`
		Version int    `json:"version"`
		Text    string `json:"text"`
	}
	openParams struct {
		TextDocument textDocument `json:"textDocument"`
	}
	changeParams struct {
		TextDocument   textDocument `json:"textDocument"`
		ContentChanges []struct {
			Range *textRange `json:"range"`
			Text  string     `json:"text"`
		} `json:"contentChanges"`
	}
	positionParams struct {
		TextDocument textDocument `json:"textDocument"`
		Position     position     `json:"position"`
	}
	actionParams struct {
		TextDocument textDocument `json:"textDocument"`
		Range        textRange    `json:"range"`
		Context      struct {
			Only []string `json:"only"`
		} `json:"context"`
	}
	referenceParams struct {
		positionParams
		Context struct {
			IncludeDeclaration bool `json:"includeDeclaration"`
		} `json:"context"`
	}
	renameParams struct {
		positionParams
		NewName string `json:"newName"`
	}
	symbol struct {
		Name           string    `json:"name"`
		Detail         string    `json:"detail,omitempty"`
		Kind           int       `json:"kind"`
		Range          textRange `json:"range"`
		SelectionRange textRange `json:"selectionRange"`
	}
	renamePlace struct {
		Range       textRange `json:"range"`
		Placeholder string    `json:"placeholder"`
	}
	hover struct {
		Contents markup    `json:"contents"`
		Range    textRange `json:"range"`
	}
	markup struct {
		Kind  string `json:"kind"`
		Value string `json:"value"`
	}
	completionItem struct {
		Label  string `json:"label"`
		Kind   int    `json:"kind"`
		Detail string `json:"detail,omitempty"`
		// Edit is what is put in where that is more than the label behind the cursor.
		Edit *textEdit `json:"textEdit,omitempty"`
	}
	textEdit struct {
		Range   textRange `json:"range"`
		NewText string    `json:"newText"`
	}
	codeAction struct {
		Title       string        `json:"title"`
		Kind        string        `json:"kind"`
		IsPreferred bool          `json:"isPreferred"`
		Edit        workspaceEdit `json:"edit"`
	}
	workspaceEdit struct {
		Changes map[string][]textEdit `json:"changes"`
	}
)

// fixAll is the kind of the action that mends everything which can be mended safely.
const fixAll = "source.fixAll"

// Kinds of symbols.
const (
	symbolField  = 8
	symbolModule = 2
)

// Kinds of completion items.
const (
	kindKeyword  = 14
	kindValue    = 12
	kindProperty = 10
)

// capabilities is what the server can do, in the answer to initialize.
var capabilities = map[string]any{
	"positionEncoding":           "utf-16",
	"textDocumentSync":           map[string]any{"openClose": true, "change": 2, "save": true},
	"hoverProvider":              true,
	"definitionProvider":         true,
	"documentFormattingProvider": true,
	"codeActionProvider":         map[string]any{"codeActionKinds": []string{"quickfix", fixAll}},
	"completionProvider":         map[string]any{"triggerCharacters": []string{" ", "\t", "$"}},
	"referencesProvider":         true,
	"documentSymbolProvider":     true,
	"renameProvider":             map[string]any{"prepareProvider": true},
}
