package editor

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	"github.com/sourcegraph/jsonrpc2"
)

// maxMessage is the longest message that is read.
const maxMessage = 2 * maxText

// stream carries messages with a length in front (LSP 3.17, base protocol). One that is
// no JSON is answered with an error, and the next is read: an editor that stumbles once
// does not lose its server.
type stream struct {
	rwc io.ReadWriteCloser
	in  *bufio.Reader
	mu  sync.Mutex // held while a message is written
}

func newStream(rwc io.ReadWriteCloser) *stream {
	return &stream{rwc: rwc, in: bufio.NewReader(rwc)}
}

// ReadObject implements jsonrpc2.ObjectStream.
func (s *stream) ReadObject(v any) error {
	for {
		body, err := s.frame()
		if err != nil {
			return err
		}
		if err := json.Unmarshal(body, v); err == nil {
			return nil
		}
		code, text := int64(jsonrpc2.CodeInvalidRequest), "this is not a request"
		if !json.Valid(body) {
			code, text = jsonrpc2.CodeParseError, "this is not JSON"
		}
		answer := map[string]any{"jsonrpc": "2.0", "id": nil, "error": map[string]any{"code": code, "message": text}}
		if err := s.WriteObject(answer); err != nil {
			return err
		}
	}
}

// frame reads the headers of a message and its body.
func (s *stream) frame() ([]byte, error) {
	length := -1
	for {
		line, err := s.in.ReadString('\n')
		if err != nil {
			return nil, err
		}
		line = strings.TrimRight(line, "\r\n")
		if line == "" && length >= 0 {
			break
		}
		if name, value, ok := strings.Cut(line, ":"); ok && strings.EqualFold(strings.TrimSpace(name), "Content-Length") {
			n, err := strconv.ParseUint(strings.TrimSpace(value), 10, 31)
			if err != nil || n > maxMessage {
				return nil, fmt.Errorf("a message of %s octets is not read", strings.TrimSpace(value))
			}
			length = int(n)
		} else if line == "" {
			return nil, errors.New("a message has no length")
		}
	}
	body := make([]byte, length)
	_, err := io.ReadFull(s.in, body)
	return body, err
}

// WriteObject implements jsonrpc2.ObjectStream.
func (s *stream) WriteObject(v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err = s.rwc.Write(append(fmt.Appendf(nil, "Content-Length: %d\r\n\r\n", len(body)), body...))
	return err
}

// Close implements jsonrpc2.ObjectStream.
func (s *stream) Close() error { return s.rwc.Close() }
