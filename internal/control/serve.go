package control

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"time"
)

// Request is one command to a running server.
type Request struct {
	Command string `json:"-"`
	Zone    string `json:"zone,omitempty"`
	// Args is what else a command takes, as JSON of its own.
	Args json.RawMessage `json:"args,omitempty"`
}

// Args is v as Request.Args.
func Args(v any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil { // only for what JSON cannot say, which no command takes
		return nil
	}
	return text
}

// Response is the answer: a result, or an error.
type Response struct {
	Error  *Failure        `json:"error,omitempty"`
	Result json.RawMessage `json:"result,omitempty"`
}

// Failure is an error as it is told to the other side.
type Failure struct {
	Kind string `json:"kind,omitempty"` // one of Kinds; empty: no special one
	Text string `json:"text"`
}

// Kind is a kind of errors that is the same on both sides, so that errors.Is holds there
// what it holds here.
type Kind struct {
	Name   string
	Err    error
	Status int // of HTTP
}

// Errors says how errors are told to the other side.
type Errors struct {
	Kinds []Kind
	// Explain puts an error into words, with what to do about it; nil is its Error.
	Explain func(error) string
}

// Text is an error in words.
func (e Errors) Text(err error) string {
	if e.Explain == nil {
		return err.Error()
	}
	return e.Explain(err)
}

// Text is a result that is text rather than JSON, written as it comes.
type Text func(io.Writer) error

// Limits of the socket.
const (
	maxRequest  = 1 << 20
	headerLimit = 5 * time.Second
	grace       = 2 * time.Second
)

// Handler carries out a command.
type Handler func(ctx context.Context, r Request) (any, error)

// Serve answers commands until ctx is done, and returns when the last is answered, or a
// moment later. known tells whether the configuration lets somebody do anything; see places.
func Serve(ctx context.Context, l net.Listener, errs Errors, known func(*Identity) bool, h Handler) {
	s := &http.Server{
		ReadHeaderTimeout: headerLimit,
		ReadTimeout:       headerLimit,
		BaseContext:       func(net.Listener) context.Context { return ctx },
		ConnContext:       withCaller,
		Handler:           http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r, errs, h) }),
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		<-ctx.Done()
		late, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
		defer cancel()
		if s.Shutdown(late) != nil {
			_ = s.Close()
		}
	}()
	_ = s.Serve(&places{Listener: l, known: known}) // it ends with the context
	<-done
}

func answer(w http.ResponseWriter, r *http.Request, errs Errors, h Handler) {
	command, ok := strings.CutPrefix(r.URL.Path, "/v1/")
	if !ok || r.Method != http.MethodPost {
		fail(w, http.StatusNotFound, Failure{Text: "a command is a POST to /v1/COMMAND"})
		return
	}
	req := Request{}
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxRequest)).Decode(&req); err != nil {
		fail(w, http.StatusBadRequest, Failure{Text: "the request is not JSON: " + err.Error()})
		return
	}
	req.Command = command
	result, err := h(r.Context(), req)
	if err != nil {
		status, f := http.StatusUnprocessableEntity, Failure{Text: errs.Text(err)}
		for _, k := range errs.Kinds {
			if errors.Is(err, k.Err) {
				status, f.Kind = k.Status, k.Name
				break
			}
		}
		fail(w, status, f)
		return
	}
	if text, is := result.(Text); is {
		w.Header().Set("Content-Type", textType)
		w.Header().Set("Trailer", failedTrailer)
		if err := text(w); err != nil {
			w.Header().Set(failedTrailer, strings.ReplaceAll(errs.Text(err), "\n", " "))
		}
		return
	}
	body, err := json.Marshal(result)
	if err != nil {
		fail(w, http.StatusInternalServerError, Failure{Text: err.Error()})
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(Response{Result: body}) // whoever asked may be gone
}

const (
	textType      = "text/dns; charset=utf-8" // RFC 4027
	failedTrailer = "Failed"                  // why a text ends before its end
)

func fail(w http.ResponseWriter, status int, f Failure) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(Response{Error: &f})
}
