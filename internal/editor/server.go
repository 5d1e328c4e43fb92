// Package editor is the Language Server Protocol: what check, explain and tidy
// know, in an editor, over standard input and output.
package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"sync"

	"github.com/sourcegraph/jsonrpc2"

	"fencepost/internal/ops"
)

// maxText is the longest document that is looked at.
const maxText = 256 << 20

// Serve speaks the protocol until the client says exit or the stream ends.
func Serve(ctx context.Context, a *ops.App, version string, stream io.ReadWriteCloser) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &server{app: a, version: version, docs: map[string]*document{}, done: cancel}
	conn := jsonrpc2.NewConn(ctx, newStream(stream), jsonrpc2.HandlerWithError(s.handle))
	select {
	case <-conn.DisconnectNotify():
	case <-ctx.Done():
	}
	s.checks.Wait()
	if s.unclean() {
		return fmt.Errorf("the editor left without saying so")
	}
	return nil
}

type server struct {
	app     *ops.App
	names   ops.NameIndex
	version string
	connect sync.Once
	conn    *jsonrpc2.Conn
	done    func()
	checks  sync.WaitGroup

	mu          sync.Mutex
	docs        map[string]*document
	initialized bool
	shutdown    bool
	exited      bool
}

// document is an open file: its text as it is in the editor.
type document struct {
	uri, path string
	mu        sync.Mutex
	version   int
	text      string
	busy      bool // a check is running; another follows when the text changed
	stale     bool
	found     *ops.Buffer // of the last check
}

func (s *server) unclean() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.exited && !s.shutdown
}

// methods are the requests and notifications, by name.
var methods = map[string]func(s *server, ctx context.Context, params json.RawMessage) (any, error){
	"initialize":                  (*server).initialize,
	"shutdown":                    (*server).stop,
	"exit":                        (*server).exit,
	"textDocument/didOpen":        (*server).didOpen,
	"textDocument/didChange":      (*server).didChange,
	"textDocument/didSave":        (*server).didSave,
	"textDocument/didClose":       (*server).didClose,
	"textDocument/hover":          (*server).hover,
	"textDocument/completion":     (*server).completion,
	"textDocument/definition":     (*server).definition,
	"textDocument/formatting":     (*server).formatting,
	"textDocument/codeAction":     (*server).codeActions,
	"textDocument/references":     (*server).references,
	"textDocument/documentSymbol": (*server).outline,
	"textDocument/prepareRename":  (*server).prepareRename,
	"textDocument/rename":         (*server).rename,

	// What they change is read anew each time: look at everything again.
	"workspace/didChangeConfiguration": (*server).checkAll,
	"workspace/didChangeWatchedFiles":  (*server).checkAll,

	"initialized":     nothing,
	"$/cancelRequest": nothing,
	"$/setTrace":      nothing,
}

// Errors of the protocol.
const (
	codeNotInitialized = -32002
	codeRequestFailed  = -32803
)

// admitted says why a message is not taken now: nothing comes before initialize, and
// after shutdown only exit (LSP 3.17, lifecycle messages).
func (s *server) admitted(method string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case method == "exit":
		return nil
	case s.shutdown:
		return &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "the server was told to shut down"}
	case method == "initialize" && s.initialized:
		return &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidRequest, Message: "initialize was sent before"}
	case method != "initialize" && !s.initialized:
		return &jsonrpc2.Error{Code: codeNotInitialized, Message: "initialize comes first"}
	}
	return nil
}

func nothing(*server, context.Context, json.RawMessage) (any, error) { return nil, nil }

func (s *server) handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) (any, error) {
	s.connect.Do(func() { s.conn = conn })
	if err := s.admitted(req.Method); err != nil {
		return nil, err
	}
	do := methods[req.Method]
	if do == nil {
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound, Message: "there is no method " + req.Method}
	}
	params := json.RawMessage("null")
	if req.Params != nil {
		params = *req.Params
	}
	return do(s, ctx, params)
}

func decode(params json.RawMessage, v any) error {
	if err := json.Unmarshal(params, v); err != nil {
		return &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: err.Error()}
	}
	return nil
}

func (s *server) initialize(context.Context, json.RawMessage) (any, error) {
	s.mu.Lock()
	s.initialized = true
	s.mu.Unlock()
	return map[string]any{"capabilities": capabilities, "serverInfo": map[string]string{"name": "Fencepost", "version": s.version}}, nil
}

func (s *server) stop(context.Context, json.RawMessage) (any, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shutdown = true
	return nil, nil
}

func (s *server) exit(context.Context, json.RawMessage) (any, error) {
	s.mu.Lock()
	s.exited = true
	s.mu.Unlock()
	s.done()
	return nil, nil
}

func (s *server) didOpen(ctx context.Context, params json.RawMessage) (any, error) {
	var p openParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	if len(p.TextDocument.Text) > maxText {
		return nil, &jsonrpc2.Error{Code: jsonrpc2.CodeInvalidParams, Message: "the document is too long"}
	}
	d := &document{uri: p.TextDocument.URI, path: pathOf(p.TextDocument.URI), version: p.TextDocument.Version, text: p.TextDocument.Text}
	s.mu.Lock()
	s.docs[d.uri] = d
	s.mu.Unlock()
	s.check(ctx, d)
	return nil, nil
}

func (s *server) didChange(ctx context.Context, params json.RawMessage) (any, error) {
	var p changeParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	d := s.doc(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	d.mu.Lock()
	for _, c := range p.ContentChanges {
		d.text = apply(d.text, c.Range, c.Text)
	}
	d.version = p.TextDocument.Version
	d.mu.Unlock()
	s.check(ctx, d)
	return nil, nil
}

func (s *server) didSave(ctx context.Context, params json.RawMessage) (any, error) {
	var p openParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	if d := s.doc(p.TextDocument.URI); d != nil {
		s.check(ctx, d)
	}
	return nil, nil
}

func (s *server) didClose(ctx context.Context, params json.RawMessage) (any, error) {
	var p openParams
	if err := decode(params, &p); err != nil {
		return nil, err
	}
	s.mu.Lock()
	delete(s.docs, p.TextDocument.URI)
	s.mu.Unlock()
	return nil, s.conn.Notify(ctx, "textDocument/publishDiagnostics", publishParams{URI: p.TextDocument.URI, Diagnostics: []diagnostic{}})
}

// checkAll looks all open documents over again.
func (s *server) checkAll(ctx context.Context, _ json.RawMessage) (any, error) {
	s.mu.Lock()
	docs := slices.Collect(maps.Values(s.docs))
	s.mu.Unlock()
	for _, d := range docs {
		s.check(ctx, d)
	}
	return nil, nil
}

// open is the texts of the open documents but one.
func (s *server) open(but *document) ops.Texts {
	s.mu.Lock()
	docs := slices.Collect(maps.Values(s.docs))
	s.mu.Unlock()
	out := ops.Texts{}
	for _, d := range docs {
		if d != but && d.path != "" {
			d.mu.Lock()
			out[d.path] = d.text
			d.mu.Unlock()
		}
	}
	return out
}

func (s *server) doc(uri string) *document {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.docs[uri]
}

// check looks the document over, one check at a time: typing on while one runs
// makes one more follow, not one for each key.
func (s *server) check(ctx context.Context, d *document) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.busy {
		d.stale = true
		return
	}
	d.busy = true
	s.checks.Go(func() {
		for {
			d.mu.Lock()
			text, version := d.text, d.version
			d.stale = false
			d.mu.Unlock()
			found := s.app.CheckBuffer(d.path, text, s.open(d))
			s.publish(ctx, d, found, version)
			d.mu.Lock()
			d.found = found
			d.busy = d.stale
			again := d.stale
			d.mu.Unlock()
			if !again {
				return
			}
		}
	})
}

// current is what is known of the document's present text: of the last check if
// that was of this text, else of a reading now.
func (s *server) current(d *document) *ops.Buffer {
	d.mu.Lock()
	found, text := d.found, d.text
	d.mu.Unlock()
	if found != nil && found.Text == text {
		return found.Beside(s.open(d)) // others may have changed since
	}
	return s.app.CheckBuffer(d.path, text, s.open(d))
}

// publish sends the findings: those of the document, and those of files that it
// includes to theirs.
func (s *server) publish(ctx context.Context, d *document, b *ops.Buffer, version int) {
	byURI := map[string][]diagnostic{d.uri: {}}
	for i := range b.Diags.All {
		uri, one := diagnosticOf(b, d.uri, &b.Diags.All[i])
		byURI[uri] = append(byURI[uri], one)
	}
	for uri, list := range byURI {
		p := publishParams{URI: uri, Diagnostics: list}
		if uri == d.uri {
			p.Version = &version
		}
		if err := s.conn.Notify(ctx, "textDocument/publishDiagnostics", p); err != nil {
			return // the client has gone
		}
	}
}
